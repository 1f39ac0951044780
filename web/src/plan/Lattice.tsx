import type { CellMeaning, JobMeaning } from "../api/client";
import { StatusMark } from "../marks/StatusMark";
import { duration } from "../app/words";
import classes from "./plan.module.css";

const MOST_COLUMNS = 40;

/** The cells of a job on the lattice of its dimensions: the first dimension down, all others across. */
export function Lattice({ job }: { job: JobMeaning }) {
  const dimensions = Object.keys(job.dimensions);
  if (dimensions.length === 0) return null;
  const down = dimensions.length > 1 ? dimensions[0] : undefined;
  const across = dimensions.filter((d) => d !== down);
  const name = (values: string[]) => values.join("\n");
  const take = (c: CellMeaning) => across.map((d) => c.values[d] ?? "");
  const columns = [...new Map(job.cells.map((c) => [name(take(c)), take(c)])).values()].sort((a, b) => byOrder(job, across, a, b));
  const rows = down ? [...new Set(job.cells.map((c) => c.values[down] ?? ""))] : [""];
  const at = new Map(job.cells.map((c) => [`${down ? (c.values[down] ?? "") : ""}\n${name(take(c))}`, c]));
  const ordered = down ? rows.sort((a, b) => place(job, down, a) - place(job, down, b)) : rows;
  return (
    <div className={classes.scroll}>
      <table className={classes.lattice} aria-label={`Cells of ${job.title}`}>
        {columns.length <= MOST_COLUMNS && (
          <thead>
            {across.map((dimension, level) => (
              <tr key={dimension}>
                {down && <th scope="col" className={classes.corner}>{level === across.length - 1 ? `${down} ╲ ${dimension}` : `╲ ${dimension}`}</th>}
                {spans(columns, level).map(([value, count], i) => (
                  <th key={i} scope="colgroup" colSpan={count}>
                    {value}
                  </th>
                ))}
              </tr>
            ))}
          </thead>
        )}
        <tbody>
          {ordered.map((row) => (
            <tr key={row}>
              {down && <th scope="row">{row}</th>}
              {columns.map((column) => {
                const cell = at.get(`${row}\n${name(column)}`);
                return <td key={name(column)}>{cell && <Node cell={cell} />}</td>;
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** The place of a value in the plan's own order; what add brings comes last. */
function place(job: JobMeaning, dimension: string, value: string): number {
  const at = job.dimensions[dimension]?.indexOf(value) ?? -1;
  return at < 0 ? 1e6 : at;
}

function byOrder(job: JobMeaning, dimensions: string[], a: string[], b: string[]): number {
  for (const [i, d] of dimensions.entries()) {
    const by = place(job, d, a[i] ?? "") - place(job, d, b[i] ?? "");
    if (by !== 0) return by;
  }
  return 0;
}

/** Neighbouring columns that share their values up to a level, as one heading. */
function spans(columns: string[][], level: number): [string, number][] {
  const found: [string, number, string][] = [];
  for (const column of columns) {
    const key = column.slice(0, level + 1).join("\n");
    const last = found.at(-1);
    if (last && last[2] === key) last[1] += 1;
    else found.push([column[level] ?? "", 1, key]);
  }
  return found.map(([value, count]) => [value, count]);
}

function Node({ cell }: { cell: CellMeaning }) {
  const said = describe(cell);
  if (cell.state === "dropped") return <span className={classes.dropped} title={said} role="img" aria-label={said} />;
  const mark = cell.state === "unselected" ? "not-selected" : cell.lacks ? "void" : "passed";
  return (
    <span className={classes.node} data-added={cell.added} title={said}>
      <StatusMark mark={mark} size={13} advisory={cell.advisory} label={said} />
    </span>
  );
}

function describe(cell: CellMeaning): string {
  const parts = [cell.key];
  if (cell.state === "dropped") parts.push("dropped");
  if (cell.state === "unselected") parts.push("not selected by the sample");
  if (cell.added) parts.push("added");
  if (cell.advisory) parts.push("advisory");
  if (cell.lacks && cell.state === "selected") parts.push(`would wait: ${cell.lacks}`);
  if (cell.seconds !== null) parts.push(`about ${duration(cell.seconds)}`);
  return parts.join("; ");
}
