import type { Rehearsal } from "../api/client";
import classes from "./plan.module.css";

const W = 116;
const H = 22;
const GAP_X = 34;
const GAP_Y = 8;

/** The order of the jobs as a graph: what waits stands to the right of what it waits for. */
export function Order({ rehearsal }: { rehearsal: Rehearsal }) {
  const running = new Map(rehearsal.jobs.filter((j) => j.runs).map((j) => [j.job, j]));
  const ranks = rehearsal.order.map((rank) => rank.filter((id) => running.has(id))).filter((rank) => rank.length > 0);
  const places = new Map<string, { x: number; y: number }>();
  ranks.forEach((rank, r) => rank.forEach((id, i) => places.set(id, { x: r * (W + GAP_X), y: i * (H + GAP_Y) })));
  const width = ranks.length * (W + GAP_X) - GAP_X;
  const height = Math.max(...ranks.map((r) => r.length)) * (H + GAP_Y);
  return (
    <div className={classes.scroll}>
      <svg width={width + 2} height={height + 2} role="img" aria-label={`Order of the jobs: ${ranks.map((r) => r.join(" and ")).join(", then ")}`} className={classes.order}>
        <g transform="translate(1 1)">
          {[...running.values()].flatMap((job) =>
            job.after.map((other) => {
              const a = places.get(other);
              const b = places.get(job.job);
              if (!a || !b) return null;
              const [x1, y1, x2, y2] = [a.x + W, a.y + H / 2, b.x, b.y + H / 2];
              return <path key={`${other}/${job.job}`} d={`M${x1} ${y1}C${x1 + GAP_X / 2} ${y1} ${x2 - GAP_X / 2} ${y2} ${x2} ${y2}`} />;
            }),
          )}
          {[...places].map(([id, p]) => (
            <g key={id} data-gated={running.get(id)?.gated}>
              <rect x={p.x} y={p.y} width={W} height={H} rx={3} />
              <text x={p.x + 8} y={p.y + 15}>
                {cut(running.get(id)?.title ?? id)}
              </text>
            </g>
          ))}
        </g>
      </svg>
    </div>
  );
}

const cut = (text: string) => (text.length > 16 ? `${text.slice(0, 15)}…` : text);
