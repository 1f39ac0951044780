import { useState } from "react";
import type { Attempt, Report, Run } from "../api/client";
import { counted, exact, size } from "../app/words";
import classes from "./evidence.module.css";

const kinds: Record<string, string> = {
  artifact: "Artifacts", "hand-over": "Handed over", tests: "Reports of tests", retest: "Reports of retests", coverage: "Coverage",
  analysis: "Analysis", attachment: "Attachments", companion: "Logs of companions",
}; // prettier-ignore

/** Every file that the attempt delivered, with a preview that can do no harm. */
export function Files({ attempt, run }: { attempt: Attempt; run: Run }) {
  const [shown, setShown] = useState<Report>();
  const groups = Object.keys(kinds).filter((kind) => attempt.reports.some((r) => r.content === kind));
  if (groups.length === 0) return <p className={classes.intro}>No file came from this attempt{attempt.state === "running" ? " yet" : ""}.</p>;
  const released = attempt.reports.some((r) => r.content === "artifact") && run.run.verdict !== "clear";
  return (
    <>
      <p className={classes.intro}>
        {counted(attempt.reports.length, "file")}, {size(attempt.reports.reduce((n, r) => n + r.size, 0))}. <a href={`/api/v1/attempts/${attempt.id}/files`}>Download all</a>
        {released && <span className={classes.differs}> The run is {run.run.verdict}: these files are evidence, not a release.</span>}
      </p>
      <div className={classes.files}>
        <div>
          {groups.map((kind) => (
            <section key={kind}>
              <h3>{kinds[kind]}</h3>
              <ul className={classes.reports}>
                {attempt.reports
                  .filter((r) => r.content === kind)
                  .map((r) => (
                    <li key={r.id} data-shown={shown?.id === r.id}>
                      <button type="button" className={`plain ${classes.jump ?? ""}`} onClick={() => setShown(r)}>
                        {r.path}
                      </button>{" "}
                      <span className="soft">
                        {size(r.size)}
                        {r.until && <span title={exact(r.until)}>, kept until {new Date(r.until).toLocaleDateString("en-GB", { day: "numeric", month: "short", year: "numeric" })}</span>} ·{" "}
                        <a href={`/api/v1/reports/${r.id}/raw`}>download</a>
                      </span>
                      <div className="soft mono">{r.digest.slice(0, 16)}</div>
                      {(r.content === "tests" || r.content === "retest") && (
                        <div className="soft">
                          {counted(r.total, "test")}: {r.passed} passed, {r.failed} failed, {r.errored} errored, {r.skipped} skipped
                        </div>
                      )}
                      {r.problems.map((p, i) => (
                        <div key={i}>{String(p.message)}</div>
                      ))}
                    </li>
                  ))}
              </ul>
            </section>
          ))}
        </div>
        {shown && shown.size < 20_000_000 && <iframe className={classes.preview} sandbox="" title={`Preview of ${shown.path}`} src={`/api/v1/reports/${shown.id}/view`} />}
        {shown && shown.size >= 20_000_000 && <p className="soft">{shown.path} is too long for a preview.</p>}
      </div>
    </>
  );
}
