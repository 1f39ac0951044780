import { useNow } from "../app/useNow";
import { counted, duration, exact } from "../app/words";
import type { JobMeaning, Meaning, Rehearsal } from "../api/client";
import { Lattice } from "./Lattice";
import { Order } from "./Order";
import classes from "./plan.module.css";

/** What a plan means for an event: a sentence, the order of its jobs, and their cells. */
export function MeaningPane({ meaning, stale, onLine }: { meaning: Meaning | undefined; stale: boolean; onLine: (line: number) => void }) {
  if (!meaning) return <p className={classes.quiet}>Reading the plan …</p>;
  const rehearsal = meaning.rehearsal;
  if (!rehearsal) return <p className={classes.quiet}>A plan with errors runs nothing: every push would be held until they are mended.</p>;
  const running = rehearsal.jobs.filter((j) => j.runs);
  const resting = rehearsal.jobs.filter((j) => !j.runs);
  return (
    <div className={classes.meaning} data-stale={stale} data-testid="meaning">
      <h2 className={classes.said} data-testid="rehearsal">
        {rehearsal.sentence}
      </h2>
      {running.length > 0 && <Forecast rehearsal={rehearsal} />}
      {running.some((j) => j.after.length > 0) && <Order rehearsal={rehearsal} />}
      {running.map((job) => (
        <Job key={job.job} job={job} limit={meaning.limit} onLine={onLine} />
      ))}
      {resting.length > 0 && running.length > 0 && (
        <>
          <h3>Would not run</h3>
          <ul className={classes.resting}>
            {resting.map((j) => (
              <li key={j.job}>
                <b>{j.title}</b>: {j.reason}
              </li>
            ))}
          </ul>
        </>
      )}
      <h3>What starts a run</h3>
      <ul className={classes.outline}>
        {meaning.outline.map((line) => (
          <li key={line}>{line}</li>
        ))}
      </ul>
      <Schedules meaning={meaning} />
    </div>
  );
}

function Forecast({ rehearsal }: { rehearsal: Rehearsal }) {
  const f = rehearsal.forecast;
  return (
    <p className="soft">
      {f.known === f.cells ? "Times are those of earlier runs" : f.known > 0 ? `Times of ${counted(f.known, "cell")} are those of earlier runs, ${duration(30)} is assumed for the others` : `Nothing ran yet: ${duration(30)} a cell is assumed`}
      {f.price === null ? "; no runner names a price." : `; price ${f.price.toFixed(3)}.`}
    </p>
  );
}

function Job({ job, limit, onLine }: { job: JobMeaning; limit: number; onLine: (line: number) => void }) {
  const count = (state: string) => job.cells.filter((c) => c.state === state).length;
  const advisory = job.cells.filter((c) => c.advisory && c.state === "selected").length;
  const added = job.cells.filter((c) => c.added).length;
  const said = [
    counted(count("selected"), "cell"),
    advisory && `${advisory} advisory`,
    added && `${added} added`,
    count("unselected") && `${count("unselected")} not selected`,
    count("dropped") && `${count("dropped")} dropped`,
  ].filter(Boolean);
  const stuck = job.cells.filter((c) => c.state === "selected" && c.lacks);
  const able = [...new Set(job.cells.flatMap((c) => c.runners))];
  return (
    <div className={classes.job}>
      <h3>
        <button type="button" className="plain" title="Go to this job in the text" onClick={() => onLine(job.line)}>
          {job.title}
        </button>
        <span className="soft">
          {said.join(", ")}
          {job.combinations > 1 && ` of ${job.combinations.toLocaleString("en")} combinations (limit ${limit.toLocaleString("en")})`}
        </span>
      </h3>
      {job.because && <p className="soft">Runs because {job.because}.</p>}
      {job.housekeeping && <p className="soft">Housekeeping: schedules that name it run it, and no verdict depends on it.</p>}
      {job.gated && !job.housekeeping && <p className="soft">Starts when the verdict is clear, and cannot change it.</p>}
      <Lattice job={job} />
      {stuck.length > 0 && (
        <p className={classes.stuck}>
          {stuck.length === 1 ? `${stuck[0]?.key || job.title} would wait` : `${stuck.length} cells would wait`}: {stuck[0]?.lacks}.
        </p>
      )}
      {stuck.length === 0 && able.length > 0 && <p className="soft">{able.join(", ")} can run it.</p>}
      {job.blind && job.blind.missed > 0 && (
        <p className="soft">
          Blind spots of the sample: {job.blind.missed.toLocaleString("en")} of {job.blind.possible.toLocaleString("en")} combinations of {job.blind.size} values are in no chosen cell, for
          example {Object.entries(job.blind.examples[0] ?? {}).map(([k, v]) => `${k} = ${v}`).join(", ")}.
        </p>
      )}
    </div>
  );
}

function Schedules({ meaning }: { meaning: Meaning }) {
  const now = useNow();
  return meaning.schedules.map((s) => (
    <p key={s.name} className="soft">
      {s.name} comes next{" "}
      {s.next.map((t, i) => (
        <span key={t}>
          {i > 0 && ", "}
          <span title={exact(t)}>{coming(t, now)}</span>
        </span>
      ))}
      .
    </p>
  ));
}

const coming = (time: string, now: number) =>
  `${new Date(time).toLocaleString("en-GB", { weekday: "short", day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" })} (in ${duration((Date.parse(time) - now) / 1000)})`;
