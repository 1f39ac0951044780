import { Button } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { api, taken, type DrillStep } from "../api/client";
import { VerdictMark } from "../marks/StatusMark";
import classes from "./settings.module.css";

/** The gate tried with artificial failures. */
export function Drill({ project }: { project: string }) {
  const drill = useMutation({ mutationFn: () => taken(api.POST("/api/v1/projects/{project}/drill", { params: { path: { project } } })) });
  return (
    <section aria-label="Drill">
      <h2>Drill</h2>
      <p className="soft">
        Artificial results go through this project&apos;s own gate in a throw-away copy: a test that fails, a cell without a result, a missing report, lost coverage. Then every place is read. Nothing runs, nothing is sent, nothing is left behind.
      </p>
      <Button size="xs" variant="default" loading={drill.isPending} onClick={() => drill.mutate()}>
        Try the gate
      </Button>
      {drill.error && <p role="alert">{drill.error.message}</p>}
      {drill.data && (
        <>
          <p role="status">
            <b>{drill.data.said}</b>
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
              {drill.data.steps.map((step) => (
                <Tried key={step.title} step={step} />
              ))}
            </tbody>
          </table>
        </>
      )}
    </section>
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
