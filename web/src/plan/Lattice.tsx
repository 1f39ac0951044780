import type { CellMeaning, JobMeaning } from "../api/client";
import { StatusMark } from "../marks/StatusMark";
import { duration } from "../app/words";
import classes from "./plan.module.css";

/** The cells of a job on the lattice of its dimensions: the first dimension down, all others across. */
export function Lattice({ job }: { job: JobMeaning }) {
  const dimensions = Object.keys(job.dimensions);
  if (dimensions.length === 0) return null;
  const down = dimensions.length > 1 ? dimensions[0] : undefined;
  const across = dimensions.filter((d) => d !== down);
  const name = (c: CellMeaning, ds: string[]) => ds.map((d) => c.values[d] ?? "").join(" · ");
  const columns = [...new Set(job.cells.map((c) => name(c, across)))];
  const rows = down ? [...new Set(job.cells.map((c) => c.values[down] ?? ""))] : [""];
  const at = new Map(job.cells.map((c) => [`${down ? (c.values[down] ?? "") : ""}|${name(c, across)}`, c]));
  const wide = columns.length > 24;
  return (
    <div className={classes.scroll}>
      <table className={classes.lattice} aria-label={`Cells of ${job.title}`}>
        {!wide && (
          <thead>
            <tr>
              {down && <th scope="col" className={classes.corner}>{down}</th>}
              {columns.map((c) => (
                <th key={c} scope="col">
                  <span>{c}</span>
                </th>
              ))}
            </tr>
          </thead>
        )}
        <tbody>
          {rows.map((row) => (
            <tr key={row}>
              {down && <th scope="row">{row}</th>}
              {columns.map((column) => {
                const cell = at.get(`${row}|${column}`);
                return <td key={column}>{cell && <Node cell={cell} />}</td>;
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
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
