import { Button, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, CallError, taken, type Looked } from "../api/client";
import classes from "./plan.module.css";
import { keys } from "../app/queries";

/** Where is the repository? Tried on the spot, with the reason when it cannot be read. */
export function FirstVisit({ empty }: { empty: boolean }) {
  const [address, setAddress] = useState("");
  const [name, setName] = useState<string>();
  const navigate = useNavigate();
  const client = useQueryClient();
  const look = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/repositories/look", { body: { address } })),
    onSuccess: () => setName(undefined),
  });
  const found = look.data;
  const add = useMutation({
    mutationFn: (looked: Looked) => taken(api.POST("/api/v1/projects", { body: { address: looked.address, name: name ?? looked.name, description: "" } })),
    onSuccess: async (added) => {
      await Promise.all([keys.projects(), keys.desk()].map((k) => client.invalidateQueries({ queryKey: k })));
      await navigate(`/p/${added.name}/plan?first=1`);
    },
  });
  return (
    <>
      <FirstSteps now={1} />
      <div className={classes.first}>
        <h1>{empty ? "Where is the repository that you want tested?" : "Where is the next repository?"}</h1>
        <p className="soft">A path on the server&apos;s machine, or an address that git can fetch. An empty repository will do. Nothing runs before you say so.</p>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            look.mutate();
          }}
        >
          <TextInput style={{ flex: 1 }} aria-label="Path or address of the repository" placeholder="/srv/git/tidebook.git" value={address} autoFocus onChange={(e) => { setAddress(e.currentTarget.value); look.reset(); }} />
          <Button type="submit" variant={found ? "default" : "filled"} loading={look.isPending} disabled={!address.trim()}>
            Look
          </Button>
        </form>
        {look.error && <Refusal error={look.error} />}
        {found && (
          <div className={classes.found} data-testid="looked">
            <p>
              It can be read: {found.said}. {!found.empty && <>Its main line is <b>{found.main_branch}</b>.</>}
            </p>
            <TextInput label="Its name here" w={260} value={name ?? found.name} onChange={(e) => setName(e.currentTarget.value)} />
            {add.error && <Refusal error={add.error} />}
            <Button mt={14} loading={add.isPending} onClick={() => add.mutate(found)}>
              Watch it and look at its tests
            </Button>
          </div>
        )}
      </div>
    </>
  );
}

function Refusal({ error }: { error: Error }) {
  return (
    <p className={classes.stuck} role="alert">
      {error.message}
      {error instanceof CallError && error.mend && <span className="soft"> · {error.mend}</span>}
    </p>
  );
}

const said = ["Where the repository is", "Its test plan, and what it will run", "The first verdict"];

export function FirstSteps({ now }: { now: 1 | 2 | 3 }) {
  return (
    <ol className={classes.steps} aria-label="Steps to the first verdict">
      {said.map((text, i) => (
        <li key={text} aria-current={i + 1 === now ? "step" : undefined}>
          {text}
        </li>
      ))}
    </ol>
  );
}
