import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { useAddress } from "../app/address";
import { useActions } from "../app/keys";
import { coverageFileQuery, fileQuery } from "../app/queries";
import { counted, short } from "../app/words";
import type { FileCoverage, Run } from "../api/client";
import { Gutter } from "./Gutter";
import { markOf, percent, ranges } from "./shapes";
import classes from "./coverage.module.css";

const ROW = 19;

/** A file at the commit, line by line: run, in part, by nothing; and by which cells, where only some reach it. */
export function FileView({ run, path, commit }: { run: Run; path: string; commit: string }) {
  const [address, go] = useAddress();
  const covered = useQuery(coverageFileQuery(run.project, run.run.number, path, address.job, address.base));
  const source = useQuery(fileQuery(run.project, commit, path));
  const back = () => go({ file: undefined, line: undefined });
  useActions({ back });
  const trouble = covered.error ?? null;
  return (
    <>
      <div className={classes.fileHead}>
        <button type="button" className="plain" onClick={back} title="Key u">
          ← all files
        </button>
        <b className="mono">{path}</b>
        <span className="soft mono">{short(commit)}</span>
        {covered.data && (
          <span className="soft">
            {percent(covered.data.covered, covered.data.valid)} of {counted(covered.data.valid, "line")}, by {counted(covered.data.cells, "cell")}
          </span>
        )}
      </div>
      {trouble && <p className="soft">{trouble.message}.</p>}
      {covered.data && source.error && <p className="soft">{source.error.message}; lines are shown without their text.</p>}
      {covered.data && (source.data || source.error) && <Lines covered={covered.data} text={source.data?.text ?? ""} at={address.line} />}
      {!covered.data && !trouble && <p className="soft">Reading {path} …</p>}
    </>
  );
}

function Lines({ covered, text, at }: { covered: FileCoverage; text: string; at: number | undefined }) {
  const [, go] = useAddress();
  const lines = useMemo(() => text.split("\n"), [text]);
  const known = useMemo(() => new Map(covered.lines.map((l) => [l.number, l])), [covered]);
  const changed = useMemo(() => new Set(covered.changed), [covered]);
  const lost = useMemo(() => new Set(covered.lost), [covered]);
  const bare = useMemo(() => ranges(covered.lines.filter((l) => l.hits === 0).map((l) => l.number)).map((r) => r.first), [covered]);
  const count = Math.max(lines.length, covered.lines.at(-1)?.number ?? 0);
  const box = useRef<HTMLDivElement>(null);
  const [chosen, choose] = useState(at);
  const virtual = useVirtualizer({ count, getScrollElement: () => box.current, estimateSize: () => ROW, overscan: 30 });
  useEffect(() => {
    if (at === undefined) return;
    box.current?.scrollIntoView({ block: "nearest" });
    virtual.scrollToIndex(Math.max(0, at - 1), { align: "center" });
  }, [at, virtual]);
  const jump = (to: number | undefined) => {
    if (to === undefined) return;
    choose(to);
    go({ line: to }, true);
  };
  const here = chosen ?? 0;
  useActions({
    down: () => jump(bare.find((n) => n > here) ?? bare[0]),
    up: () => jump(bare.findLast((n) => n < here) ?? bare.at(-1)),
  });
  return (
    <>
      <p className={classes.places}>
        {bare.length === 0 ? "Every line of it that can be covered was run." : (
          <>
            {counted(bare.length, "place")} that nothing ran:{" "}
            <button type="button" className="plain" onClick={() => jump(bare.find((n) => n > here) ?? bare[0])} title="Key j">
              next
            </button>{" "}
            <button type="button" className="plain" onClick={() => jump(bare.findLast((n) => n < here) ?? bare.at(-1))} title="Key k">
              previous
            </button>
          </>
        )}
      </p>
      <div ref={box} className={classes.source} tabIndex={0} role="region" aria-label={`${covered.path}, line by line`}>
        <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {virtual.getVirtualItems().map((item) => {
            const number = item.index + 1;
            const line = known.get(number);
            const some = line?.some ?? null;
            const first = some !== null && known.get(number - 1)?.some !== some;
            const reach = some === null ? undefined : covered.reaches[some];
            return (
              <div key={number} className={classes.line} style={{ transform: `translateY(${item.start}px)` }} data-changed={changed.has(number)} data-chosen={number === chosen} data-bare={line?.hits === 0}>
                <i>{number}</i>
                <Gutter mark={markOf(line ? line.hits : null, line?.taken ?? 0, line?.branches ?? 0)} />
                <code>{lines[item.index] ?? ""}</code>
                <span className={classes.reach} title={reach ? `Reached by ${reach.cells.join(", ")}` : undefined}>
                  {line && line.branches > line.taken && line.hits > 0 && `${line.taken} of ${line.branches} branches `}
                  {lost.has(number) && "reached no more "}
                  {reach && (first ? (reach.where ? `only where ${reach.where}` : `only in ${counted(reach.cells.length, "cell")} of ${covered.cells}`) : "·")}
                </span>
              </div>
            );
          })}
        </div>
      </div>
    </>
  );
}
