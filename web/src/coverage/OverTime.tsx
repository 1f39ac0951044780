import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { coverageTrendQuery } from "../app/queries";
import { exact, short } from "../app/words";
import type { CoveragePoint } from "../api/client";
import { path, placed } from "./shapes";
import classes from "./coverage.module.css";

const WIDTH = 760;
const HEIGHT = 96;
const LISTED = 12;

/** How much of a folder the last runs covered: a line whose points open their runs, and where it changed as a table. */
export function OverTime({ project, folder, job }: { project: string; folder: string; job: string }) {
  const found = useQuery(coverageTrendQuery(project, folder, job)).data;
  if (!found) return null;
  const points = placed(found.points, WIDTH, HEIGHT);
  const moved = found.points.filter((p, i) => i > 0 && p.text !== found.points[i - 1]?.text);
  return (
    <section className={classes.part} aria-label="Over time">
      <h3>Over time</h3>
      <p>{found.said}</p>
      {points.length > 1 && (
        <svg className={classes.time} viewBox={`0 0 ${WIDTH} ${HEIGHT}`} aria-hidden>
          <path d={path(points)} />
          {points.map((p) => (
            <Link key={p.point.run} to={`/p/${project}/runs/${p.point.run}?section=coverage`} tabIndex={-1}>
              <circle cx={p.x} cy={p.y} r={points.length > 60 ? 2 : 3}>
                <title>{told(p.point)}</title>
              </circle>
            </Link>
          ))}
        </svg>
      )}
      {moved.length > 0 && (
        <details>
          <summary>Where it changed</summary>
          <table className={classes.moved}>
            <tbody>
              {moved.slice(-LISTED).reverse().map((p) => (
                <tr key={p.run}>
                  <td>
                    <Link to={`/p/${project}/runs/${p.run}?section=coverage`}>#{p.run}</Link>
                  </td>
                  <td className="mono">{short(p.commit)}</td>
                  <td>{p.title}</td>
                  <td className="tabular">
                    {p.covered.toLocaleString("en")} of {p.valid.toLocaleString("en")}
                  </td>
                  <td className="tabular">{p.text}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </details>
      )}
    </section>
  );
}

const told = (p: CoveragePoint) => `#${p.run} ${p.title}\n${p.text}, ${p.covered} of ${p.valid} lines, ${exact(p.at)}`;
