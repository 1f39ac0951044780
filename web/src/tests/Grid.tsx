import { keepPreviousData, useQueries } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef, useState, type CSSProperties } from "react";
import { Link } from "react-router";
import { testsQuery, type TestsWanted } from "../app/queries";
import { counted, duration } from "../app/words";
import type { Run, TestHeading, TestRow, TestsPage } from "../api/client";
import { StatusMark } from "../marks/StatusMark";
import { markNames, markOfLetter } from "../marks/shapes";
import classes from "./tests.module.css";
import type { Chosen } from "./Aside";
import { columnHeads, headingText, layout } from "./tree";

const PAGE = 200;
const ROW = 24;
const CELL = 17;
const MANY = 500; // tests from which the tree begins folded

/** Tests against cells: headings that fold, a mark for each cell; rows are fetched as they come into view. */
export function Grid({ run, wanted, page, chosen, onChosen }: { run: Run; wanted: TestsWanted; page: TestsPage; chosen: Chosen; onChosen: (chosen: Chosen) => void }) {
  const box = useRef<HTMLDivElement>(null);
  const [turned, setTurned] = useState<ReadonlySet<number>>(new Set());
  const [usual, setUsual] = useState(page.shown > MANY && page.headings.length > 1);
  const folded = (heading: number) => usual !== turned.has(heading);
  const tree = layout(page.headings, folded);
  const virtual = useVirtualizer({ count: tree.lines, getScrollElement: () => box.current, estimateSize: () => ROW, overscan: 20 });
  const lines = virtual.getVirtualItems().map((item) => ({ ...item, ...tree.at(item.index) }));
  const pages = [...new Set(lines.map((line) => ("test" in line ? Math.floor(line.test / PAGE) : 0)))].filter((p) => p > 0);
  const answers = useQueries({ queries: pages.map((p) => ({ ...testsQuery(run.project, run.run.number, wanted, p * PAGE, PAGE), placeholderData: keepPreviousData })) });
  const rows = new Map<number, TestRow>(page.rows.map((row, i) => [i, row]));
  for (const { data } of answers) data?.rows.forEach((row, i) => rows.set(data.offset + i, row));
  const turn = (heading: number) =>
    setTurned((before) => {
      const now = new Set(before);
      if (!now.delete(heading)) now.add(heading);
      return now;
    });
  const choose = (row: TestRow) => {
    const now = new Map(chosen);
    if (!now.delete(row.test)) now.set(row.test, row.name);
    onChosen(now);
  };
  const all = (fold: boolean) => {
    setUsual(fold);
    setTurned(new Set());
  };
  return (
    <div ref={box} className={classes.box} style={{ "--cells": page.cells.length } as CSSProperties} tabIndex={0} role="region" aria-label="Tests by cell" data-testid="tests-grid">
      <Head run={run} page={page} fold={page.headings.length > 1 ? all : undefined} />
      <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
        {lines.map((line) => (
          <div key={line.key} className={classes.row} style={{ transform: `translateY(${line.start}px)` }}>
            {"heading" in line ? (
              <HeadingRow heading={page.headings[line.heading]} page={page} folded={folded(line.heading)} onTurn={() => turn(line.heading)} />
            ) : (
              <Row run={run} row={rows.get(line.test)} page={page} chosen={chosen} onChoose={choose} />
            )}
          </div>
        ))}
      </div>
    </div>
  );
}

function Head({ run, page, fold }: { run: Run; page: TestsPage; fold: ((fold: boolean) => void) | undefined }) {
  const values = new Map(run.cells.map((c) => [`${c.job}/${c.key}`, c.values]));
  const rows = columnHeads(page.cells.map((c) => ({ job: c.job, values: values.get(`${c.job}/${c.key}`) ?? {} })));
  return (
    <div className={classes.head}>
      {(rows.length ? rows : [{ label: "", spans: [{ text: "", cells: page.cells.length }] }]).map(({ label, spans }, i) => {
        const last = i >= rows.length - 1;
        return (
          <div key={label} className={classes.headRow}>
            <span className={classes.label}>
              {last && fold && (
                <span className={classes.folds}>
                  <button type="button" onClick={() => fold(true)}>
                    Fold all
                  </button>
                  <button type="button" onClick={() => fold(false)}>
                    Unfold all
                  </button>
                </span>
              )}
              {label}
            </span>
            {spans.map((span, j) => (
              <span key={j} className={classes.group} data-upright={span.text.length * 6.5 + 5 > span.cells * CELL} style={{ width: span.cells * CELL }} title={`${label} ${span.text}`}>
                <span>{span.text}</span>
              </span>
            ))}
            <span className={classes.time}>{last && "slowest"}</span>
            <span className={classes.before}>{last && "failed before"}</span>
          </div>
        );
      })}
    </div>
  );
}

function Marks({ page, letters }: { page: TestsPage; letters: string }) {
  return page.cells.map((cell, i) => {
    const letter = letters[i] ?? " ";
    const mark = markOfLetter(letter);
    return (
      <span key={`${cell.job}/${cell.key}`} className={classes.mark} style={{ width: CELL }} title={letter === " " ? undefined : `${cell.job} ${cell.key}: ${markNames[mark]}`}>
        {letter !== " " && <StatusMark mark={mark} size={11} />}
      </span>
    );
  });
}

function HeadingRow({ heading, page, folded, onTurn }: { heading: TestHeading | undefined; page: TestsPage; folded: boolean; onTurn: () => void }) {
  if (!heading) return null;
  const path = headingText(heading);
  return (
    <>
      <button type="button" className={classes.heading} aria-expanded={!folded} onClick={onTurn} title={path}>
        <span aria-hidden>{folded ? "▸" : "▾"}</span> {path} <small>{counted(heading.tests, "test")}</small>
      </button>
      {folded && <Marks page={page} letters={heading.marks} />}
    </>
  );
}

function Row({ run, row, page, chosen, onChoose }: { run: Run; row: TestRow | undefined; page: TestsPage; chosen: Chosen; onChoose: (row: TestRow) => void }) {
  if (!row) return <span className="soft">…</span>;
  const to = `/p/${encodeURIComponent(run.project)}`;
  return (
    <>
      <span className={classes.name}>
        <input type="checkbox" aria-label={`Choose ${row.name}`} checked={chosen.has(row.test)} onChange={() => onChoose(row)} />
        <Link to={`${to}/tests/${row.test}`} title={row.name}>
          {row.name}
        </Link>
      </span>
      <Marks page={page} letters={row.marks} />
      <span className={`${classes.time ?? ""} tabular`}>
        {row.seconds !== null && duration(row.seconds)}
        {row.change !== null && Math.abs(row.change) > 0.05 && <small>{row.change > 0 ? ` +${duration(row.change)}` : ` −${duration(-row.change)}`}</small>}
      </span>
      <span className={classes.before}>{row.failed_before !== null && <Link to={`${to}/runs/${row.failed_before}`}>#{row.failed_before}</Link>}</span>
    </>
  );
}
