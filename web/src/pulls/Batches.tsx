import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Batch } from "../api/client";
import { keys } from "../app/queries";
import { ago, exact, short } from "../app/words";
import { VerdictMark } from "../marks/StatusMark";
import classes from "./pulls.module.css";

/** Pull requests that are, or were, tested together: which are clear, which were left out, and the runs that show it. */
export function Batches({ project, batches, now }: { project: string; batches: readonly Batch[]; now: number }) {
  if (batches.length === 0) return null;
  return (
    <section aria-label="Tested together">
      <h2>Tested together</h2>
      <ul className={classes.list}>
        {batches.map((batch) => (
          <One key={batch.number} project={project} batch={batch} now={now} />
        ))}
      </ul>
    </section>
  );
}

function One({ project, batch, now }: { project: string; batch: Batch; now: number }) {
  const client = useQueryClient();
  const stop = useMutation({
    mutationFn: () => api.DELETE("/api/v1/projects/{project}/batches/{number}", { params: { path: { project, number: batch.number } } }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.strip(project) }),
  });
  return (
    <li className={classes.batch} aria-label={`Batch ${batch.number}`}>
      <div className={classes.what}>
        <div>
          <b>{batch.said}</b>
        </div>
        <ol className={classes.order} aria-label="In the order in which they are merged">
          {batch.pulls.map((pull) => (
            <li key={pull.number} data-state={pull.state} title={pull.why || pull.title}>
              <Link to={`/p/${project}?branch=${encodeURIComponent(`pull request ${pull.number}`)}`}>{pull.number}</Link> {pull.state === "out" ? "left out" : ""}
            </li>
          ))}
        </ol>
        <div className="soft">
          into <span className="mono">{batch.target}</span>, {batch.merge ? (batch.merged ? `merged as ${short(batch.merged)}, ` : "to be merged once clear, ") : ""}asked for by {batch.by} <span title={exact(batch.at)}>{ago(batch.at, now)}</span>
        </div>
        {stop.error && <span role="alert">{stop.error.message}</span>}
      </div>
      <ol className={classes.heads} aria-label="Its runs, oldest first">
        {batch.runs.map((run) => (
          <li key={run.number}>
            <Link to={`/p/${project}/runs/${run.number}`} title={`${run.source}: ${run.sentence}`}>
              <VerdictMark verdict={run.verdict} size={13} /> #{run.number}
            </Link>
          </li>
        ))}
      </ol>
      <div>
        {batch.state === "testing" && (
          <button type="button" className="plain" disabled={stop.isPending} onClick={() => stop.mutate()}>
            Stop
          </button>
        )}
      </div>
    </li>
  );
}
