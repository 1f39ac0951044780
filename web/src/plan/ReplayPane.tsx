import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { Awaited } from "../app/Awaited";
import { replayQuery } from "../app/queries";
import { counted, middle } from "../app/words";
import { VerdictMark } from "../marks/StatusMark";
import classes from "./plan.module.css";

const SHOWN = 40;

/** The draft's gate over past runs: what it would have held, what differs from then, and how strict its rules could be. */
export function ReplayPane({ project, branch, text }: { project: string; branch: string; text: string }) {
  const [runs, setRuns] = useState(100);
  const [all, setAll] = useState(false);
  const found = useQuery(replayQuery(project, text, branch, runs));
  return (
    <Awaited of={found} what="The replay" rows={6}>
      {(data) => {
        const listed = all ? data.runs : data.runs.filter((r) => r.now !== r.before);
        return (
          <div className={classes.meaning} data-stale={found.isPlaceholderData} data-testid="replay">
            <h2 className={classes.said}>{data.said}</h2>
            <p className="soft">
              The newest{" "}
              {[30, 100, 300, 1000].map((n) => (
                <button key={n} type="button" className={`plain ${classes.choice ?? ""}`} aria-pressed={runs === n} onClick={() => setRuns(n)}>
                  {n}
                </button>
              ))}{" "}
              runs of {data.branch}. What the built-in rules said then stands.
            </p>
            {data.untold.length > 0 && <p className="soft">Not replayed, for what they measure is not kept of past runs: {data.untold.join(", ")}.</p>}
            {data.limits.length > 0 && (
              <>
                <h3>How strict they could be</h3>
                <ul className={classes.outline}>
                  {data.limits.map((l) => (
                    <li key={l.rule}>
                      <b>{l.rule}</b>: {l.limit === null ? "measured in none of the clear runs" : `${l.limit} would have held none of ${counted(l.runs, "clear run")}`}
                      {l.held > 0 && `; as it is it holds ${l.held} of them`}
                      {l.unmeasured > 0 && `. It was not measured in ${counted(l.unmeasured, "run")}, which it would hold if it is not measured again`}
                    </li>
                  ))}
                </ul>
              </>
            )}
            <h3>
              {all ? "Every run" : listed.length > 0 ? "What would be said otherwise" : "Nothing would be said otherwise"}{" "}
              <button type="button" className={`plain ${classes.choice ?? ""}`} onClick={() => setAll(!all)}>
                {all ? "only what differs" : "show every run"}
              </button>
            </h3>
            <ul className={classes.replayed}>
              {listed.slice(0, SHOWN).map((r) => (
                <li key={r.number}>
                  <VerdictMark verdict={r.before} size={12} />
                  <span aria-hidden="true">→</span>
                  <VerdictMark verdict={r.now} size={12} />
                  <span>
                    <Link to={`/p/${encodeURIComponent(project)}/runs/${r.number}`}>#{r.number}</Link> {middle(r.title, 46)}
                    {r.holding.length > 0 && <span className="soft">: {r.holding.join(", ")}</span>}
                  </span>
                </li>
              ))}
            </ul>
            {listed.length > SHOWN && <p className="soft">{counted(listed.length - SHOWN, "more run")} of this kind.</p>}
          </div>
        );
      }}
    </Awaited>
  );
}
