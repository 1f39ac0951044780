import { duration } from "../app/words";
import type { TestView } from "../api/client";
import classes from "./tests.module.css";

const WIDTH = 560;
const HEIGHT = 150;
const LEFT = 52;

/** A test's durations: a point for each result, lines where the level changed; on a logarithmic scale. */
export function Times({ test }: { test: TestView }) {
  const place = new Map(test.runs.map((r, i) => [r.number, i]));
  const points = test.results.filter((r) => r.seconds !== null && r.seconds > 0 && place.has(r.run));
  if (points.length === 0) return <p className="soft">Its reports give no times.</p>;
  const seconds = points.map((p) => p.seconds ?? 0);
  const low = Math.max(0.0005, Math.min(...seconds) / 1.3);
  const high = Math.max(...seconds, low * 2) * 1.3;
  const x = (run: number) => LEFT + ((WIDTH - LEFT - 8) * ((place.get(run) ?? 0) + 0.5)) / Math.max(1, test.runs.length);
  const y = (value: number) => HEIGHT - 18 - ((HEIGHT - 28) * Math.log(value / low)) / Math.log(high / low);
  const ticks = [low * 1.3, Math.sqrt(low * high), high / 1.3];
  const bounds = [test.runs[0]?.number ?? 0, ...test.changes.map((c) => c.run), (test.runs.at(-1)?.number ?? 0) + 1];
  const levels = test.changes.length ? [test.changes[0]?.before ?? 0, ...test.changes.map((c) => c.now)] : [];
  return (
    <svg className={classes.times} viewBox={`0 0 ${WIDTH} ${HEIGHT}`} role="img" aria-label={`Durations over ${test.runs.length} runs, from ${duration(Math.min(...seconds))} to ${duration(Math.max(...seconds))}`}>
      {ticks.map((t) => (
        <g key={t}>
          <line x1={LEFT} x2={WIDTH - 8} y1={y(t)} y2={y(t)} stroke="var(--rule)" />
          <text x={LEFT - 6} y={y(t) + 4} textAnchor="end">
            {duration(t)}
          </text>
        </g>
      ))}
      {points.map((p, i) => (
        <circle key={i} cx={x(p.run)} cy={y(p.seconds ?? low)} r={2.2} fill={p.outcome === "passed" ? "var(--teal)" : "var(--vermilion)"} fillOpacity={0.55} />
      ))}
      {levels.map((level, i) => (
        <line key={i} x1={x(bounds[i] ?? 0)} x2={i + 1 === levels.length ? WIDTH - 8 : x(bounds[i + 1] ?? 0)} y1={y(level)} y2={y(level)} stroke="var(--ink)" strokeWidth={1.5} />
      ))}
      <text x={LEFT} y={HEIGHT - 3}>
        #{test.runs[0]?.number}
      </text>
      <text x={WIDTH - 8} y={HEIGHT - 3} textAnchor="end">
        #{test.runs.at(-1)?.number}
      </text>
    </svg>
  );
}
