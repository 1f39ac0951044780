import { Button, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Run } from "../api/client";
import { keys } from "../app/queries";
import { ago, counted, exact } from "../app/words";
import classes from "./run.module.css";

const SHOWN = 12;

/** What was accepted in one go stands in one line. */
export function together(accepted: Run["accepted"]): { by: string; at: string; reason: string; subjects: string[] }[] {
  const found = new Map<string, { by: string; at: string; reason: string; subjects: string[] }>();
  for (const { by, at, reason, subject } of accepted) {
    const one = found.get(`${by}/${at}/${reason}`) ?? { by, at, reason, subjects: [] };
    one.subjects.push(subject);
    found.set(`${by}/${at}/${reason}`, one);
  }
  return [...found.values()];
}

/** What a run has less than before: a maintainer may say, with a reason, that it may be so. What was said stays listed. */
export function Accepting({ run, now }: { run: Run; now: number }) {
  const client = useQueryClient();
  const [reason, setReason] = useState("");
  const { loosened, tests } = run.acceptable;
  const accept = useMutation({
    mutationFn: () =>
      api.POST("/api/v1/projects/{project}/runs/{number}/acceptances", {
        params: { path: { project: run.project, number: run.run.number } },
        body: { reason, loosened, tests },
      }),
    onSuccess: () => {
      setReason("");
      return client.invalidateQueries({ queryKey: keys.run(run.project, run.run.number) });
    },
  });
  const open = loosened.length + tests.length > 0;
  return (
    <>
      {together(run.accepted).map(({ by, at, reason, subjects }) => (
        <div key={`${by}/${at}`} className="soft" title={exact(at)}>
          Accepted by {by}, {ago(at, now)}: {subjects.slice(0, SHOWN).join(", ")}
          {subjects.length > SHOWN && ` and ${subjects.length - SHOWN} more`}. “{reason}”
        </div>
      ))}
      {open && (
        <section className={classes.accept} aria-label="Less than before">
          <b>Less than before.</b> {tests.length > 0 && `${counted(tests.length, "test")} vanished or newly skipped; they are listed under Tests. `}
          {loosened.length > 0 && "The plan asks less:"}
          {loosened.length > 0 && (
            <ul>
              {loosened.slice(0, SHOWN).map((line) => (
                <li key={line}>{line}</li>
              ))}
              {loosened.length > SHOWN && <li>and {loosened.length - SHOWN} more</li>}
            </ul>
          )}
          <form
            onSubmit={(e) => {
              e.preventDefault();
              accept.mutate();
            }}
          >
            <TextInput size="xs" label="It may be so, because" value={reason} onChange={(e) => setReason(e.currentTarget.value)} style={{ flex: 1 }} />
            <Button size="xs" type="submit" disabled={!reason.trim()} loading={accept.isPending}>
              Accept
            </Button>
          </form>
          {accept.error && <span role="alert">{accept.error.message}</span>}
        </section>
      )}
    </>
  );
}
