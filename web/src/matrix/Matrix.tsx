import { Link } from "react-router";
import { useAddress, written } from "../app/address";
import { Notice } from "../app/Notice";
import { counted, duration } from "../app/words";
import type { Cell, Run } from "../api/client";
import { StatusMark } from "../marks/StatusMark";
import { markNamed } from "../marks/shapes";
import classes from "./matrix.module.css";
import { pivot, usualRows } from "./pivot";

const nameOf = (cell: Cell) => `${cell.job}/${cell.key}`;

/** The cells of each job as a table of their dimensions. */
export function Matrix({ run }: { run: Run }) {
  const [address, go] = useAddress();
  const jobs = [...new Set(run.cells.map((c) => c.job))];
  const longest = Math.max(0.001, ...run.cells.map((c) => c.seconds ?? 0));
  const chosen = new Set(address.cells);
  const toggle = (cells: Cell[]) => {
    const names = cells.map(nameOf);
    const all = names.every((n) => chosen.has(n));
    go({ cells: all ? address.cells.filter((n) => !names.includes(n)) : [...new Set([...address.cells, ...names])] }, true);
  };
  if (run.cells.length === 0) return <Notice title="There are no cells">{run.reason || run.run.sentence}</Notice>;
  return (
    <>
      <p className={classes.intro}>{intro(run.cells)}</p>
      {jobs.map((job) => (
        <JobTable key={job} cells={run.cells.filter((c) => c.job === job)} chosen={chosen} longest={longest} onToggle={toggle} />
      ))}
      {chosen.size > 0 && (
        <div className={classes.tools}>
          <span>{counted(chosen.size, "cell")} chosen; the other sections show only these.</span>
          <Link to={written({ ...address, section: "evidence" })}>Their evidence</Link>
          <button type="button" className="plain" style={{ color: "var(--accent)" }} onClick={() => go({ cells: [] }, true)}>
            Choose none
          </button>
        </div>
      )}
    </>
  );
}

function intro(cells: Cell[]): string {
  const states = new Map<string, number>();
  for (const c of cells) states.set(c.state, (states.get(c.state) ?? 0) + 1);
  return `${counted(cells.length, "cell")}: ${[...states].map(([state, n]) => `${n} ${state}`).join(", ")}.`;
}

interface TableProps {
  cells: Cell[];
  chosen: Set<string>;
  longest: number;
  onToggle: (cells: Cell[]) => void;
}

function JobTable({ cells, chosen, longest, onToggle }: TableProps) {
  const rowDimensions = usualRows(cells);
  const table = pivot(cells, rowDimensions);
  const first = cells[0];
  if (!first) return null;
  const columnName = Object.keys(first.values).filter((d) => !rowDimensions.includes(d));
  return (
    <div className={classes.job}>
      <h2>{first.job_title}</h2>
      <table className={classes.table}>
        {columnName.length > 0 && (
          <thead>
            <tr>
              {rowDimensions.length > 0 && <th scope="col">{rowDimensions.join(", ")}</th>}
              {table.columns.map((column) => (
                <th key={column.join()} scope="col">
                  <button type="button" className="plain" onClick={() => onToggle(present(table.rows.map((r) => table.at(r, column))))}>
                    {columnName.join(", ")} {column.join(", ")}
                  </button>
                </th>
              ))}
            </tr>
          </thead>
        )}
        <tbody>
          {table.rows.map((row) => (
            <tr key={row.join()}>
              {rowDimensions.length > 0 && (
                <th scope="row">
                  <button type="button" className="plain" onClick={() => onToggle(present(table.columns.map((c) => table.at(row, c))))}>
                    {row.join(", ")}
                  </button>
                </th>
              )}
              {table.columns.map((column) => {
                const cell = table.at(row, column);
                return (
                  <td key={column.join()} className={cell ? undefined : classes.none}>
                    {cell ? <Tile cell={cell} chosen={chosen.has(nameOf(cell))} longest={longest} onToggle={() => onToggle([cell])} /> : "dropped"}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const present = (cells: (Cell | undefined)[]) => cells.filter((c): c is Cell => c !== undefined);

interface TileProps {
  cell: Cell;
  chosen: boolean;
  longest: number;
  onToggle: () => void;
}

function Tile({ cell, chosen, longest, onToggle }: TileProps) {
  const failing = cell.failed + cell.errored;
  const said = failing > 0 ? `${failing} failing` : cell.state === "passed" ? `${cell.passed} passed` : cell.state;
  return (
    <button
      type="button"
      className={`plain ${classes.tile ?? ""}`}
      aria-pressed={chosen}
      aria-label={`${cell.job} ${cell.key}: ${said}`}
      title={cell.reason || undefined}
      data-testid="tile"
      onClick={onToggle}
    >
      <StatusMark mark={markNamed(cell.mark)} size={18} advisory={cell.advisory} />
      <span className={classes.count}>{said}</span>
      <span className={classes.small}>{detail(cell)}</span>
      {cell.seconds !== null && <span className={classes.bar} style={{ width: `${(cell.seconds / longest) * 100}%` }} />}
    </button>
  );
}

function detail(cell: Cell): string {
  const exact = Object.values(cell.runtimes).join(", ");
  return [cell.seconds !== null && duration(cell.seconds), exact, cell.attempt > 1 && `attempt ${cell.attempt}`].filter(Boolean).join(" · ");
}
