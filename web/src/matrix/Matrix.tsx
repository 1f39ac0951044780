import { useElementSize } from "@mantine/hooks";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState, type MouseEvent, type ReactNode } from "react";
import { Link } from "react-router";
import { useAddress, written, type Show } from "../app/address";
import { Notice } from "../app/Notice";
import { keys, marksQuery } from "../app/queries";
import { counted, duration } from "../app/words";
import { api, taken, type Cell, type Run } from "../api/client";
import { StatusMark } from "../marks/StatusMark";
import { markNamed } from "../marks/shapes";
import { Arrange, type Place } from "./Arrange";
import classes from "./matrix.module.css";
import { selectorOf } from "../run/Actions";
import { DENSE, dimensionsOf, markedAgainst, pivot, usualRows } from "./pivot";

const nameOf = (cell: Cell) => `${cell.job}/${cell.key}`;

/** The cells of each job as a table of their dimensions. */
export function Matrix({ run: shown }: { run: Run }) {
  const [address, go] = useAddress();
  const against = useQuery(marksQuery(shown.project, shown.run.number, address.base)).data;
  const run = address.base !== undefined && against ? { ...shown, cells: markedAgainst(shown.cells, against) } : shown;
  const jobs = [...new Set(run.cells.map((c) => c.job))];
  const chosen = new Set(address.cells);
  const toggle = (cells: Cell[]) => {
    const names = cells.map(nameOf);
    const all = names.every((n) => chosen.has(n));
    go({ cells: all ? address.cells.filter((n) => !names.includes(n)) : [...new Set([...address.cells, ...names])] }, true);
  };
  const dimensions = dimensionsOf(run.cells);
  const { ref, width } = useElementSize();
  const rows = address.rows ?? usualRows(run.cells, width || undefined);
  const dragged = useDragged((cells) => go({ cells: [...new Set([...address.cells, ...cells])] }, true));
  const arrangement: Record<Place, string[]> = {
    rows: dimensions.filter((d) => rows.includes(d) && !address.tables.includes(d)),
    tables: dimensions.filter((d) => address.tables.includes(d)),
    columns: dimensions.filter((d) => !rows.includes(d) && !address.tables.includes(d)),
  };
  const move = (dimension: string, to: Place) => {
    const without = (list: string[]) => list.filter((d) => d !== dimension);
    go(
      {
        rows: to === "rows" ? [...without(arrangement.rows), dimension] : without(arrangement.rows),
        tables: to === "tables" ? [...without(arrangement.tables), dimension] : without(arrangement.tables),
      },
      true,
    );
  };
  if (run.cells.length === 0) return <Notice title="There are no cells">{run.reason || run.run.sentence}</Notice>;
  return (
    <div ref={ref} {...dragged.whole}>
      <p className={classes.intro}>
        {intro(run.cells)}
        {address.base !== undefined && (against ? ` Marks are against #${address.base}.` : ` Comparing with #${address.base} …`)}
      </p>
      {dimensions.length > 0 && <Arrange arrangement={arrangement} show={address.show} onMove={move} onShow={(show) => go({ show }, true)} />}
      {jobs.map((job) => {
        const cells = run.cells.filter((c) => c.job === job);
        const longest = Math.max(0.001, ...cells.map((c) => c.seconds ?? 0));
        const tile = (cell: Cell) => (
          <Tile cell={cell} show={address.show} dense={cells.length >= DENSE} chosen={chosen.has(nameOf(cell)) || dragged.over.has(nameOf(cell))} longest={longest} onToggle={() => toggle([cell])} drag={dragged.tile(nameOf(cell))} />
        );
        return <JobTables key={job} cells={cells} rows={address.rows ?? rows} tables={address.tables} tile={tile} onToggle={toggle} />;
      })}
      <LeftOut run={run} />
      {chosen.size > 0 && (
        <div className={classes.tools}>
          <span>{counted(chosen.size, "cell")} chosen; the other sections show only these.</span>
          <Link to={written({ ...address, section: "evidence" })}>Their evidence</Link>
          <RunThem run={run} cells={run.cells.filter((c) => chosen.has(nameOf(c)))} />
          <button type="button" className="plain" style={{ color: "var(--accent)" }} onClick={() => go({ cells: [] }, true)}>
            Choose none
          </button>
        </div>
      )}
    </div>
  );
}

/** Another attempt of the chosen cells; those that the sample left out get their first. */
function RunThem({ run, cells }: { run: Run; cells: Cell[] }) {
  const client = useQueryClient();
  const again = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/projects/{project}/runs/{number}/again", { params: { path: { project: run.project, number: run.run.number } }, body: { which: "chosen", cells: selectorOf(cells) } })),
    onSettled: () => client.invalidateQueries({ queryKey: keys.run(run.project, run.run.number) }),
  });
  const unselected = cells.filter((c) => !c.selected).length;
  return (
    <>
      <button type="button" className="plain" style={{ color: "var(--accent)" }} disabled={again.isPending} onClick={() => again.mutate()}>
        {unselected === cells.length ? "Run them from here" : unselected ? `Run them (${unselected} for the first time)` : "Run them again"}
      </button>
      {again.error && <span role="alert">{again.error.message}</span>}
    </>
  );
}

/** Choosing tiles by dragging over them. */
function useDragged(onDone: (names: string[]) => void) {
  const [over, setOver] = useState<ReadonlySet<string>>(new Set());
  const start = useRef<string>(undefined);
  const end = () => {
    if (over.size > 1) onDone([...over]);
    start.current = undefined;
    if (over.size) setOver(new Set());
  };
  return {
    over: over.size > 1 ? over : new Set<string>(),
    whole: { onPointerUp: end, onPointerLeave: end },
    tile: (name: string) => ({
      onPointerDown: () => {
        start.current = name;
        setOver(new Set([name]));
      },
      onPointerEnter: () => start.current !== undefined && setOver(new Set([...over, name])),
      // what was dragged over is chosen by the drag; its click would take the last one out again
      onClickCapture: (e: MouseEvent) => over.size > 1 && e.stopPropagation(),
    }),
  };
}

/** Jobs without cells here, and what samples hide. */
function LeftOut({ run }: { run: Run }) {
  return (
    <>
      {run.taken.map((t) => (
        <p key={`${t.job}/${t.project}`} className="soft">
          <b>{t.job}</b> is given {t.paths.slice(0, 3).join(", ")}
          {t.paths.length > 3 && ` and ${t.paths.length - 3} more`} of <Link to={`/p/${encodeURIComponent(t.project)}/runs/${t.run}`}>{`${t.project} #${t.run}`}</Link>.
        </p>
      ))}
      {run.left_out.map((j) => <Hidden key={j.job} of={j} />)}
    </>
  );
}

function Hidden({ of: j }: { of: Run["left_out"][number] }) {
  return (
    <p className="soft">
      {j.reason && (
        <>
          <b>{j.title}</b> did not run: {j.reason}.
        </>
      )}
      {j.because && (
        <>
          <b>{j.title}</b> runs because {j.because}.
        </>
      )}
      {j.blind && (
        <>
          Blind spots of <b>{j.title}</b>: {counted(j.blind.missed, "combination")} of {j.blind.size} values, of {j.blind.possible.toLocaleString("en")}, are in no chosen cell, for example{" "}
          {Object.entries(j.blind.examples[0] ?? {}).map(([k, v]) => `${k} = ${v}`).join(", ")}. Choose cells and run them to look.
        </>
      )}
    </p>
  );
}

function intro(cells: Cell[]): string {
  const states = new Map<string, number>();
  for (const c of cells) {
    const state = c.selected ? c.state : "not selected";
    states.set(state, (states.get(state) ?? 0) + 1);
  }
  return `${counted(cells.length, "cell")}: ${[...states].map(([state, n]) => `${n} ${state}`).join(", ")}.`;
}

interface TablesProps {
  cells: Cell[];
  rows: string[] | undefined;
  tables: string[];
  tile: (cell: Cell) => ReactNode;
  onToggle: (cells: Cell[]) => void;
}

/** One job: a table, or one for each value of the dimensions set apart. */
function JobTables({ cells, rows, tables, tile, onToggle }: TablesProps) {
  const mine = dimensionsOf(cells);
  const apart = tables.filter((d) => mine.includes(d));
  const groups = new Map<string, Cell[]>();
  for (const cell of cells) {
    const name = apart.map((d) => `${d} ${cell.values[d] ?? ""}`).join(", ");
    groups.set(name, [...(groups.get(name) ?? []), cell]);
  }
  const rowDimensions = (rows ?? usualRows(cells)).filter((d) => mine.includes(d) && !apart.includes(d));
  return (
    <div className={classes.job}>
      <h2>{cells[0]?.job_title}</h2>
      <div className={classes.split}>
        {[...groups].map(([name, group]) => (
          <div key={name}>
            {name && <h3>{name}</h3>}
            <JobTable cells={group} rowDimensions={rowDimensions} columnDimensions={mine.filter((d) => !rowDimensions.includes(d) && !apart.includes(d))} tile={tile} onToggle={onToggle} />
          </div>
        ))}
      </div>
    </div>
  );
}

const WRAPPED = 10; // cells of one dimension that stand in a line before it wraps

interface TableProps {
  cells: Cell[];
  rowDimensions: string[];
  columnDimensions: string[];
  tile: (cell: Cell) => ReactNode;
  onToggle: (cells: Cell[]) => void;
}

function JobTable({ cells, rowDimensions, columnDimensions, tile, onToggle }: TableProps) {
  const table = pivot(cells, rowDimensions, columnDimensions);
  const dense = cells.length >= DENSE;
  if (rowDimensions.length === 0 && table.columns.length > WRAPPED) {
    return (
      <ul className={classes.wrap}>
        {cells.map((cell) => (
          <li key={cell.id}>
            <span className="soft" title={columnDimensions.map((d) => `${d} ${cell.values[d] ?? ""}`).join(", ")}>
              {columnDimensions.map((d) => cell.values[d]).join(", ")}
            </span>
            {tile(cell)}
          </li>
        ))}
      </ul>
    );
  }
  return (
    <table className={classes.table}>
      {columnDimensions.length > 0 && (
        <thead>
          <tr>
            {rowDimensions.length > 0 && (
              <th scope="col" className={classes.corner}>
                {rowDimensions.join(", ")}
                {(columnDimensions.length > 1 || dense) && <span>{columnDimensions.map((d) => <span key={d}>{d} →</span>)}</span>}
              </th>
            )}
            {table.columns.map((column) => (
              <th key={column.join()} scope="col">
                <button type="button" className={`plain ${classes.column ?? ""}`} data-dense={dense} title={columnDimensions.map((d, i) => `${d} ${column[i] ?? ""}`).join(", ")} onClick={() => onToggle(present(table.rows.map((r) => table.at(r, column))))}>
                  {columnDimensions.length === 1 && !dense ? `${columnDimensions.join()} ${column.join()}` : column.map((value, i) => <span key={columnDimensions[i]}>{value || "–"}</span>)}
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
                  {columnDimensions.length > 0 ? row.join(", ") : `${rowDimensions.join(", ")} ${row.join(", ")}`}
                </button>
              </th>
            )}
            {table.columns.map((column) => {
              const cell = table.at(row, column);
              return (
                <td key={column.join()} className={cell ? undefined : classes.none}>
                  {cell ? tile(cell) : "no such cell"}
                </td>
              );
            })}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const present = (cells: (Cell | undefined)[]) => cells.filter((c): c is Cell => c !== undefined);

interface TileProps {
  cell: Cell;
  show: Show;
  chosen: boolean;
  longest: number;
  dense: boolean;
  onToggle: () => void;
  drag: object;
}

function Tile({ cell, show, chosen, longest, dense, onToggle, drag }: TileProps) {
  const failing = failingNow(cell);
  const outcome = failing > 0 ? `${failing} failing` : cell.state === "passed" ? `${cell.passed} passed` : cell.selected ? cell.state : "not selected";
  const said = shown(cell, show, outcome);
  return (
    <button
      type="button"
      className={`plain ${classes.tile ?? ""}`}
      aria-pressed={chosen}
      aria-label={`${cell.job} ${cell.key}: ${said}`}
      title={[`${cell.job} ${cell.key}: ${said}`, detail(cell), cell.reason].filter(Boolean).join("\n")}
      data-testid="tile"
      data-dense={dense}
      {...drag}
      onClick={onToggle}
    >
      <StatusMark mark={markNamed(cell.mark)} size={18} advisory={cell.advisory} />
      <span className={classes.count}>{dense ? brief(cell, show) : said}</span>
      {!dense && <span className={classes.small}>{detail(cell)}</span>}
      {cell.seconds !== null && <span className={classes.bar} style={{ width: `${(cell.seconds / longest) * 100}%` }} />}
    </button>
  );
}

/** Failing results of a cell that has ended: what an attempt before said is said no more while it runs again. */
const failingNow = (cell: Cell) => (cell.state === "waiting" || cell.state === "running" ? 0 : cell.failed + cell.errored);

/** What a small tile says beside its mark. */
function brief(cell: Cell, show: Show): string {
  const failing = failingNow(cell);
  if (show === "outcome") return failing > 0 ? String(failing) : "";
  return shown(cell, show, "").replace(/^(no time yet|not measured|waits)$/, "–").replace(/^waited /, "").replace(/ %$/, "");
}

function shown(cell: Cell, show: Show, outcome: string): string {
  if (show === "duration") return cell.seconds === null ? "no time yet" : duration(cell.seconds);
  if (show === "coverage") return cell.coverage === null ? "not measured" : `${(cell.coverage * 100).toFixed(1)} %`;
  if (show === "waiting") return cell.waited === null ? "waits" : `waited ${duration(cell.waited)}`;
  return outcome;
}

function detail(cell: Cell): string {
  const exact = Object.values(cell.runtimes).join(", ");
  return [cell.seconds !== null && duration(cell.seconds), exact, cell.reused !== null && `as #${cell.reused}`, cell.attempt > 1 && `attempt ${cell.attempt}`].filter(Boolean).join(" · ");
}
