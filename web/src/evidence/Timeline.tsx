import { useQuery } from "@tanstack/react-query";
import type { Bar, Run, Timeline, TimelineRow } from "../api/client";
import { useAddress } from "../app/address";
import { timelineQuery } from "../app/queries";
import { Loading, Trouble } from "../app/Awaited";
import { useNow } from "../app/useNow";
import { duration } from "../app/words";
import { StatusMark } from "../marks/StatusMark";
import { markNamed } from "../marks/shapes";
import classes from "./evidence.module.css";

/** Cells against time: waiting, each phase and step; the critical path stands out, predicted ends are ticks. */
export function TimelineView({ run }: { run: Run }) {
  const asked = useQuery(timelineQuery(run.project, run.run.number));
  const found = asked.data;
  const [, go] = useAddress();
  const now = useNow();
  if (!found) return asked.error ? <Trouble what="The timeline" error={asked.error} onAgain={() => void asked.refetch()} /> : <Loading what="The timeline" />;
  if (found.rows.every((r) => r.bars.length === 0)) return <p className={classes.intro}>Nothing of this run was executed{run.reason ? `: ${run.reason}` : ""}.</p>;
  const begin = Date.parse(found.started_at);
  const end = Math.max(begin + 1000, ...found.rows.flatMap((r) => [...r.bars.map((b) => endOf(b, now)), r.predicted_end && endIsOpen(r) ? Date.parse(r.predicted_end) : 0]));
  const at = (time: number) => `${(100 * (time - begin)) / (end - begin)}%`;
  return (
    <>
      <p className={classes.intro} data-testid="timeline-said">
        {said(found, now, run.run.verdict)}
      </p>
      <div className={classes.timeline} role="table" aria-label="Timeline">
        <div className={classes.axis} aria-hidden>
          <span />
          <div>
            {ticks(end - begin).map((t) => (
              <span key={t} style={{ left: at(begin + t) }}>
                {duration(t / 1000)}
              </span>
            ))}
          </div>
        </div>
        {found.rows.map((row) => (
          <div key={`${row.job}/${row.key}`} className={classes.track} role="row" data-critical={row.critical}>
            <button type="button" role="rowheader" className="plain" onClick={() => go({ cells: [`${row.job}/${row.key}`], view: "log", attempt: undefined, line: undefined })}>
              <StatusMark mark={markNamed(row.mark)} size={11} />
              <span>
                {row.job} {row.key}
              </span>
            </button>
            <div role="cell" aria-label={row.bars.map((b) => `${b.name} ${lasting(b, now)}`).join(", ")}>
              {row.bars.map((bar, i) => (
                <span
                  key={i}
                  className={classes.span}
                  data-kind={bar.kind}
                  data-state={bar.state}
                  title={`${bar.name}: ${lasting(bar, now)}`}
                  style={{ left: at(Date.parse(bar.started_at)), width: `${(100 * (endOf(bar, now) - Date.parse(bar.started_at))) / (end - begin)}%` }}
                />
              ))}
              {row.predicted_end && Date.parse(row.predicted_end) <= end && (
                <span className={classes.predicted} style={{ left: at(Date.parse(row.predicted_end)) }} title="predicted end" />
              )}
            </div>
          </div>
        ))}
      </div>
      <p className="soft">A thin line is waiting, a pale bar the runner&apos;s own work (fetch, caches, companions), a full bar a step; a tick is the predicted end. Names in bold are the critical path.</p>
    </>
  );
}

const endOf = (bar: Bar, now: number) => (bar.ended_at ? Date.parse(bar.ended_at) : now);
const endIsOpen = (row: TimelineRow) => row.bars.some((b) => !b.ended_at);
const lasting = (bar: Bar, now: number) => duration(Math.max(0, endOf(bar, now) - Date.parse(bar.started_at)) / 1000);

function said(found: Timeline, now: number, verdict: string): string {
  const seconds = ((found.ended_at ? Date.parse(found.ended_at) : now) - Date.parse(found.started_at)) / 1000;
  const critical = found.rows.filter((r) => r.critical).map((r) => `${r.job} ${r.key}`.trim());
  const won = found.rows.reduce((n, r) => n + (r.won ?? 0), 0);
  const waited = found.rows.flatMap((r) => r.bars.filter((b) => b.kind === "waiting").map((b) => endOf(b, now) - Date.parse(b.started_at)));
  const parts = [`${duration(seconds)} ${!found.ended_at ? "so far" : verdict === "undecided" ? "from the event to its end, without a verdict" : "from the event to the verdict"}`];
  if (critical.length) parts.push(`${critical.reverse().join(", then ")} decided the end`);
  if (waited.length) parts.push(`the longest wait was ${duration(Math.max(...waited) / 1000)}`);
  if (won > 0.05) parts.push(`caches won ${duration(won)}`);
  return `${parts.join("; ")}.`;
}

/** A few round marks on an axis of so many milliseconds. */
function ticks(length: number): number[] {
  const steps = [100, 200, 500, 1000, 2000, 5000, 10_000, 15_000, 30_000, 60_000, 120_000, 300_000, 600_000, 1_800_000, 3_600_000, 7_200_000];
  const step = steps.find((s) => length / s <= 8) ?? length / 8;
  return Array.from({ length: Math.floor(length / step) }, (_, i) => (i + 1) * step).filter((t) => t < length * 0.97);
}
