import "@mantine/core/styles/Pill.css";
import "@mantine/core/styles/PillsInput.css";
import { Button, MultiSelect, TextInput } from "@mantine/core";
import { useClipboard } from "@mantine/hooks";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken, type RunnerPass } from "../api/client";
import { keys, meQuery, passesQuery, projectsQuery } from "../app/queries";
import { useNow } from "../app/useNow";
import { ago, exact } from "../app/words";
import { Twice } from "../settings/Twice";
import classes from "./runners.module.css";

/** Tokens that only a runner of a name can use, and a new one; for administrators. */
export function Passes() {
  const me = useQuery(meQuery).data;
  return me?.role === "admin" ? <Given /> : null;
}

function Given() {
  const passes = useQuery(passesQuery).data ?? [];
  const client = useQueryClient();
  const now = useNow();
  const end = useMutation({
    mutationFn: (name: string) => api.DELETE("/api/v1/runner-tokens/{name}", { params: { path: { name } } }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.passes() }),
  });
  return (
    <section aria-label="Tokens of runners" className={classes.passes}>
      <h2>Tokens of runners</h2>
      <p className="soft">A runner with a token of its own can be nobody else, and is given cells of its projects only. The runner that this server starts itself uses a shared one.</p>
      {passes.length > 0 && (
        <table className={classes.queue}>
          <thead>
            <tr>
              <th scope="col">Runner</th>
              <th scope="col">For</th>
              <th scope="col">Given</th>
              <th scope="col">Last started</th>
              <th scope="col" aria-label="Actions" />
            </tr>
          </thead>
          <tbody>
            {passes.map((p) => (
              <tr key={p.runner}>
                <td>{p.runner}</td>
                <td>{meantFor(p)}</td>
                <td title={exact(p.created_at)}>{ago(p.created_at, now)}</td>
                <td>{p.used_at ? <span title={exact(p.used_at)}>{ago(p.used_at, now)}</span> : "never"}</td>
                <td>
                  <Twice what={`Revoke the token of ${p.runner}`} lost="what it runs is taken back, and it is given nothing more" onDo={() => end.mutate(p.runner)}>
                    Revoke
                  </Twice>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {end.error && (
        <p role="alert" className={classes.drained}>
          {end.error.message}
        </p>
      )}
      <NewPass />
    </section>
  );
}

export const meantFor = (pass: RunnerPass) => (pass.projects === null ? "all projects" : pass.projects.join(", ") || "projects that are gone");

function NewPass() {
  const client = useQueryClient();
  const clipboard = useClipboard();
  const known = useQuery(projectsQuery).data ?? [];
  const [name, setName] = useState("");
  const [projects, setProjects] = useState<string[]>([]);
  const give = useMutation({
    mutationFn: () => taken(api.PUT("/api/v1/runner-tokens/{name}", { params: { path: { name } }, body: { projects: projects.length ? projects : null } })),
    onSettled: () => client.invalidateQueries({ queryKey: keys.passes() }),
  });
  return (
    <form
      className={classes.newPass}
      onSubmit={(event) => {
        event.preventDefault();
        give.mutate();
      }}
    >
      <TextInput label="Runner" description="Its name; a new token takes the place of the one it had." value={name} onChange={(e) => setName(e.currentTarget.value)} required pattern="[A-Za-z0-9][A-Za-z0-9._\-]*" />
      <MultiSelect label="Only for" description="All projects when none is chosen." data={known.map((p) => p.name)} value={projects} onChange={setProjects} searchable />
      <Button type="submit" disabled={!name || give.isPending}>
        Give it a token
      </Button>
      {give.error && (
        <p role="alert" className={classes.drained}>
          {give.error.message}
        </p>
      )}
      {give.data && (
        <p role="status">
          Start it with this command; the token is shown only now.
          <code>{give.data.command}</code>
          <button type="button" className="plain" onClick={() => clipboard.copy(give.data.command)}>
            {clipboard.copied ? "copied" : "Copy"}
          </button>
        </p>
      )}
    </form>
  );
}
