import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Run, type SentLine } from "../api/client";
import { Awaited } from "../app/Awaited";
import { keys, sentQuery } from "../app/queries";
import { ago, exact } from "../app/words";
import classes from "../findings/findings.module.css";

/** Exactly what was told where: the note on the commit, and every request and mail with what came of it. */
export function Sent({ run, now }: { run: Run; now: number }) {
  const sent = useQuery(sentQuery(run.project, run.run.number));
  return (
    <>
      <p className={classes.intro}>
        {run.noted_at ? (
          <>
            The note on the commit was written <span title={exact(run.noted_at)}>{ago(run.noted_at, now)}</span>; read it with <code>git log --notes=myriant</code>{" "}
            after <code>git fetch origin refs/notes/myriant:refs/notes/myriant</code>.
          </>
        ) : run.note_trouble ? (
          `The note on the commit could not be written yet: ${run.note_trouble}. It is tried again.`
        ) : (
          "The note on the commit is written when the run is decided."
        )}
      </p>
      <Awaited of={sent} what="What was sent" rows={2}>
        {(lines) =>
          lines.length === 0 ? (
            <p className="soft">
              Nothing else was sent. <Link to={`/p/${encodeURIComponent(run.project)}/settings`}>Settings</Link> say where outcomes are told.
            </p>
          ) : (
            <ul className={classes.list} aria-label="Requests and mails">
              {lines.map((line) => (
                <One key={line.id} project={run.project} line={line} now={now} />
              ))}
            </ul>
          )
        }
      </Awaited>
      {run.note && <pre className={classes.detail} tabIndex={0} role="region" aria-label="The note">{run.note}</pre>}
    </>
  );
}

/** How a delivery stands, in words. */
export function standing(line: Pick<SentLine, "state" | "tries" | "answer" | "sent_at" | "next_at" | "behind">, now: number): string {
  const kept = /kept for .*/.exec(line.answer)?.[0];
  if (line.state === "kept") return kept ?? "is kept";
  if (line.state === "sent") return `arrived ${line.sent_at ? ago(line.sent_at, now) : ""}${kept ? `; ${kept}` : ""}`.trim();
  if (line.state === "aside") return `put aside${line.answer ? `: ${line.answer}` : ""}`;
  if (line.tries === 0) return line.behind ? "waits for an earlier one on this way" : "is being sent";
  const wait = line.next_at ? Math.max(0, Math.round((Date.parse(line.next_at) - now) / 1000)) : 0;
  return `did not arrive (${line.answer}); the next try, after ${line.tries}, ${wait > 0 ? `in ${wait} s` : "now"}`;
}

function One({ project, line, now }: { project: string; line: SentLine; now: number }) {
  const client = useQueryClient();
  const again = useMutation({
    mutationFn: () => api.POST("/api/v1/projects/{project}/sent/{number}/again", { params: { path: { project, number: line.id } } }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.run(project, line.run, "sent") }),
  });
  return (
    <li className={classes.item}>
      <p className={classes.next}>
        <b>{line.said}</b> <span className="soft">by {line.kind === "mail" ? "mail" : "a request"} to {line.shown} ({line.way}),</span> <span title={exact(line.at)}>{standing(line, now)}</span>{" "}
        {(line.state === "aside" || line.state === "waiting") && (
          <button type="button" className="plain" style={{ color: "var(--accent)" }} disabled={again.isPending} onClick={() => again.mutate()}>
            Send it again
          </button>
        )}
        {again.error && <span role="alert">{again.error.message}</span>}
      </p>
    </li>
  );
}
