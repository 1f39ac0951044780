import { Button, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken, type DrillStep, type Project } from "../api/client";
import { drillQuery, projectsQuery } from "../app/queries";
import { exact } from "../app/words";
import { VerdictMark } from "../marks/StatusMark";
import classes from "./settings.module.css";

/** The gate tried with artificial failures. */
export function Drill({ project }: { project: string }) {
  const client = useQueryClient();
  const drill = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/projects/{project}/drill", { params: { path: { project } } })),
    onSuccess: (found) => client.setQueryData(drillQuery(project).queryKey, found),
  });
  const standing = useQuery({ ...drillQuery(project), refetchInterval: (query) => (query.state.data?.goes_on ? 1000 : false) }).data;
  const goesOn = drill.isPending || (standing?.goes_on ?? false);
  const came = goesOn ? undefined : standing?.came;
  const asked = standing?.at ? `asked for by ${standing.by}, ${exact(standing.at)}` : "";
  return (
    <section aria-label="Drill">
      <h2>Drill</h2>
      <p className="soft">
        Artificial results go through this project&apos;s own gate in a throw-away copy: a test that fails, a cell without a result, a missing report, lost coverage. Then every place is read. Nothing runs, nothing is sent, nothing is left behind.
      </p>
      <Button size="xs" variant="default" loading={goesOn} onClick={() => drill.mutate()}>
        Try the gate
      </Button>
      <Scheduled project={project} />
      {drill.error && <p role="alert">{drill.error.message}</p>}
      {goesOn && <p role="status">The gate is being tried; this page may be left meanwhile.</p>}
      {!goesOn && standing?.refused && (
        <p role="alert">
          {standing.refused} <span className="soft">{asked}</span>
        </p>
      )}
      {came && (
        <>
          <p role="status">
            <b>{came.said}</b> <span className="soft">{asked}</span>
          </p>
          <table className={classes.table}>
            <thead>
              <tr>
                <th>What was done</th>
                <th>It must be</th>
                <th>What was said</th>
              </tr>
            </thead>
            <tbody>
              {came.steps.map((step) => (
                <Tried key={step.title} step={step} />
              ))}
            </tbody>
          </table>
        </>
      )}
    </section>
  );
}

/** When the gate is tried by itself, and what came of the last time. */
function Scheduled({ project }: { project: string }) {
  const found = useQuery(projectsQuery).data?.find((p) => p.name === project);
  return found ? <Times key={found.drill_words} project={found} /> : null;
}

function Times({ project }: { project: Project }) {
  const client = useQueryClient();
  const [words, setWords] = useState(project.drill_words);
  const keep = useMutation({
    mutationFn: () => taken(api.PATCH("/api/v1/projects/{project}", { params: { path: { project: project.name } }, body: { drill: words.trim() } })),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <form
      className={classes.fields}
      onSubmit={(e) => {
        e.preventDefault();
        keep.mutate();
      }}
    >
      <TextInput size="xs" label="Also by itself, at" placeholder="never; monday 06:00 Europe/Oslo" value={words} onChange={(e) => setWords(e.currentTarget.value)} />
      <Button size="xs" variant="default" type="submit" loading={keep.isPending}>
        Keep
      </Button>
      {project.drill_at && <span className="soft">next {exact(project.drill_at)}</span>}
      {project.drilled && (
        <span>
          {exact(project.drilled.at)}: {project.drilled.said}
        </span>
      )}
      {keep.error && <span role="alert">{keep.error.message}</span>}
    </form>
  );
}

export function Tried({ step }: { step: DrillStep }) {
  const wrong = step.places.filter((p) => !p.right);
  return (
    <tr>
      <td>{step.title}</td>
      <td>
        <VerdictMark verdict={step.expected === "held" ? "held" : "clear"} /> {step.expected}
      </td>
      <td>
        {step.sentence}
        {wrong.length === 0 ? (
          <details>
            <summary>the same at {step.places.length} places</summary>
            <ul>
              {step.places.map((p) => (
                <li key={p.place}>
                  {p.place}: {p.said}
                </li>
              ))}
            </ul>
          </details>
        ) : (
          <ul className={classes.trouble}>
            {wrong.map((p) => (
              <li key={p.place}>
                {p.place} says {p.said}
              </li>
            ))}
          </ul>
        )}
      </td>
    </tr>
  );
}
