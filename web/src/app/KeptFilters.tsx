import { Button, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken } from "../api/client";
import { filtersQuery, keys } from "./queries";
import classes from "./kept.module.css";

interface Props {
  project: string;
  page: "runs" | "failures" | "logs" | "tests" | "artifacts";
  query: string; // what the page looks for now, as in its address; empty: nothing in particular
  onChoose: (query: string) => void;
}

/** What people of the project look for again and again, under names; what is looked for now can be kept. */
export function KeptFilters({ project, page, query, onChoose }: Props) {
  const client = useQueryClient();
  const [naming, setNaming] = useState(false);
  const [name, setName] = useState("");
  const kept = (useQuery(filtersQuery(project)).data ?? []).filter((f) => f.page === page);
  const done = () => client.invalidateQueries({ queryKey: keys.filters(project) });
  const keep = useMutation({
    mutationFn: () => taken(api.PUT("/api/v1/projects/{project}/filters", { params: { path: { project } }, body: { page, name, query } })),
    onSuccess: () => {
      setNaming(false);
      setName("");
      return done();
    },
  });
  const drop = useMutation({
    mutationFn: (gone: string) => taken(api.DELETE("/api/v1/projects/{project}/filters", { params: { path: { project }, query: { page, name: gone } } })),
    onSuccess: done,
  });
  const here = kept.find((f) => same(f.query, query));
  const error = keep.error ?? drop.error;
  if (!query && kept.length === 0) return null;
  return (
    <div className={classes.kept} role="group" aria-label="Kept filters">
      {kept.length > 0 && <span className="soft">Kept:</span>}
      {kept.map((f) => (
        <button key={f.name} type="button" aria-pressed={f === here} title={`kept by ${f.by}`} onClick={() => onChoose(f === here ? "" : f.query)}>
          {f.name}
        </button>
      ))}
      {here ? (
        <button type="button" className={classes.act} disabled={drop.isPending} onClick={() => drop.mutate(here.name)}>
          Keep “{here.name}” no more
        </button>
      ) : query && !naming ? (
        <button type="button" className={classes.act} onClick={() => setNaming(true)}>
          Keep this filter …
        </button>
      ) : null}
      {naming && !here && (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            if (name.trim()) keep.mutate();
          }}
        >
          <TextInput size="xs" aria-label="Name of the filter" placeholder="What it finds" maxLength={80} data-autofocus value={name} onChange={(e) => setName(e.currentTarget.value)} />
          <Button size="compact-xs" type="submit" disabled={!name.trim()} loading={keep.isPending}>
            Keep
          </Button>
        </form>
      )}
      {error && <span role="alert">{error.message}</span>}
    </div>
  );
}

/** Whether two queries ask for the same, in whatever order. */
export function same(one: string, other: string): boolean {
  const [a, b] = [one, other].map((text) => [...new URLSearchParams(text)].map((pair) => pair.join("=")).sort().join("&"));
  return a === b;
}
