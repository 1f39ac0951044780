import { ago, exact } from "../app/words";
import type { Run } from "../api/client";
import classes from "../findings/findings.module.css";

/** Exactly what was told where. */
export function Sent({ run, now }: { run: Run; now: number }) {
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
          "Nothing has been told yet; the note on the commit is written when the run is decided."
        )}
      </p>
      {run.note && <pre className={classes.detail} tabIndex={0} role="region" aria-label="The note">{run.note}</pre>}
    </>
  );
}
