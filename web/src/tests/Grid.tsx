import { keepPreviousData, useQueries } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef } from "react";
import { Link } from "react-router";
import { testsQuery, type TestsWanted } from "../app/queries";
import { duration } from "../app/words";
import type { Run, TestRow, TestsPage } from "../api/client";
import { StatusMark } from "../marks/StatusMark";
import { markOfLetter } from "../marks/shapes";
import classes from "./tests.module.css";

const PAGE = 200;
const ROW = 24;

/** Tests against cells: a heading for each suite and class, a mark for each cell; rows are fetched as they come into view. */
export function Grid({ run, wanted, page }: { run: Run; wanted: TestsWanted; page: TestsPage }) {
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({ count: page.shown, getScrollElement: () => box.current, estimateSize: () => ROW, overscan: 20 });
  const items = virtual.getVirtualItems();
  const pages = [...new Set(items.map((item) => Math.floor(item.index / PAGE)))].filter((p) => p > 0);
  const answers = useQueries({ queries: pages.map((p) => ({ ...testsQuery(run.project, run.run.number, wanted, p * PAGE, PAGE), placeholderData: keepPreviousData })) });
  const rows = new Map<number, TestRow>(page.rows.map((row, i) => [i, row]));
  for (const { data } of answers) data?.rows.forEach((row, i) => rows.set(data.offset + i, row));
  const groups = grouped(page.cells);
  return (
    <div ref={box} className={classes.box} tabIndex={0} role="region" aria-label="Tests by cell" data-testid="tests-grid">
      <div className={classes.head}>
        <span />
        {groups.map((g) => (
          <span key={g.job} className={classes.group} style={{ width: g.cells.length * 15 }} title={g.job}>
            {g.cells.length > 2 ? g.job : ""}
          </span>
        ))}
        <span className={classes.time}>slowest</span>
      </div>
      <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
        {items.map((item) => {
          const row = rows.get(item.index);
          const before = rows.get(item.index - 1);
          return (
            <div key={item.key} className={classes.row} style={{ transform: `translateY(${item.start}px)` }}>
              {row ? <Row run={run} row={row} page={page} headed={!before || place(before) !== place(row)} /> : <span className="soft">…</span>}
            </div>
          );
        })}
      </div>
    </div>
  );
}

const place = (row: TestRow) => [row.job, row.suite, row.klass].filter(Boolean).join(" › ");

function grouped(cells: TestsPage["cells"]) {
  const found: { job: string; cells: TestsPage["cells"] }[] = [];
  for (const cell of cells) {
    const last = found.at(-1);
    if (last?.job === cell.job) last.cells.push(cell);
    else found.push({ job: cell.job, cells: [cell] });
  }
  return found;
}

function Row({ run, row, page, headed }: { run: Run; row: TestRow; page: TestsPage; headed: boolean }) {
  const where = place(row);
  return (
    <>
      <Link className={classes.name} to={`/p/${encodeURIComponent(run.project)}/tests/${row.test}`} title={`${where} › ${row.name}`}>
        <span className={headed ? classes.heading : classes.same}>{where} › </span>
        {row.name}
      </Link>
      {page.cells.map((cell, i) => {
        const letter = row.marks[i] ?? " ";
        return (
          <span key={`${cell.job}/${cell.key}`} className={classes.mark} title={`${cell.job} ${cell.key}`}>
            {letter !== " " && <StatusMark mark={markOfLetter(letter)} size={11} />}
          </span>
        );
      })}
      <span className={`${classes.time ?? ""} tabular`}>
        {row.seconds !== null && duration(row.seconds)}
        {row.change !== null && Math.abs(row.change) > 0.05 && <small>{row.change > 0 ? ` +${duration(row.change)}` : ` −${duration(-row.change)}`}</small>}
      </span>
    </>
  );
}
