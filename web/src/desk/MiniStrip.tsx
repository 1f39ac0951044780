import { Link } from "react-router";
import type { DeskRun } from "../api/client";
import { VerdictMark } from "../marks/StatusMark";
import { markOfLetter, verdictNames, type Mark } from "../marks/shapes";
import classes from "./desk.module.css";

const inks: Partial<Record<Mark, string>> = { passed: "quiet", quarantined: "quiet", new: "vermilion", "came-back": "vermilion", first: "vermilion", known: "vermilion", void: "graphite", running: "accent", fixed: "teal", flaky: "ochre" };

/** The newest runs of a main line: a bar a run, coloured by its share of cells in each state. */
export function MiniStrip({ project, runs }: { project: string; runs: DeskRun[] }) {
  return (
    <span className={classes.mini}>
      {runs.map((run) => (
        <Link key={run.number} to={`/p/${project}/runs/${run.number}`} className={classes.bar} title={`#${run.number} ${run.title}: ${verdictNames[run.word]}`} aria-label={`Run ${run.number}: ${verdictNames[run.word]}`}>
          <svg width={9} height={24} viewBox="0 0 9 24" aria-hidden>
            {stack(run.marks).map((part) => (
              <rect key={part.ink} y={24 - part.to * 24} width={9} height={Math.max(2.5, (part.to - part.from) * 24)} fill={`var(--${part.ink})`} />
            ))}
          </svg>
          <VerdictMark verdict={run.word} size={9} />
        </Link>
      ))}
    </span>
  );
}

function stack(marks: string): { ink: string; from: number; to: number }[] {
  const counts = new Map<string, number>();
  for (const letter of marks) {
    const ink = inks[markOfLetter(letter)];
    if (ink) counts.set(ink, (counts.get(ink) ?? 0) + 1);
  }
  let at = 0;
  return [...counts].map(([ink, count]) => {
    const from = at;
    at += count / marks.length;
    return { ink, from, to: at };
  });
}

/** Line coverage over the newest runs, with its first and last value. */
export function Spark({ runs }: { runs: DeskRun[] }) {
  const known = runs.map((r) => r.coverage).filter((c): c is number => c !== null);
  const last = known.at(-1);
  if (last === undefined) return <span className="soft">not measured</span>;
  const [low, high] = [Math.min(...known), Math.max(...known)];
  const points = known.map((c, i) => `${((i / Math.max(1, known.length - 1)) * 96 + 2).toFixed(1)},${(high > low ? 21 - ((c - low) / (high - low)) * 18 : 12).toFixed(1)}`);
  return (
    <span className={classes.spark}>
      <svg width={100} height={24} role="img" aria-label={`Line coverage from ${((known[0] ?? 0) * 100).toFixed(1)} % to ${(last * 100).toFixed(1)} %`}>
        <polyline points={points.join(" ")} fill="none" stroke="var(--ochre)" strokeWidth={1.5} />
      </svg>
      {(last * 100).toFixed(1)} %
    </span>
  );
}
