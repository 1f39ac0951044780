import { Checkbox, TextInput } from "@mantine/core";
import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useDeferredValue, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import type { LogLine, Usual } from "../api/client";
import { useAddress } from "../app/address";
import { counted, exact, size } from "../app/words";
import { spans } from "./ansi";
import classes from "./evidence.module.css";
import { rowsOf } from "./folds";
import { PAGE, useLines, useSearch, type LogState } from "./useLog";

interface Props {
  attempt: number;
  state: LogState;
  usual: Usual | undefined;
  failed: boolean;
  jump: { line: number; nonce: number } | undefined;
}

/** The log, streaming while it runs; what passing runs also print is folded, only the lines in view are fetched. */
export function Log({ attempt, state, usual, failed, jump }: Props) {
  const [address, go] = useAddress();
  const [text, setText] = useState("");
  const [follow, setFollow] = useState(address.line === undefined && !state.complete);
  const [wrap, setWrap] = useState(false);
  const [times, setTimes] = useState(false);
  const [wished, setWished] = useState<boolean>();
  const fold = wished ?? failed; // a log without trouble is shown whole
  const [unfolded, setUnfolded] = useState<ReadonlySet<number>>(new Set());
  const [hit, setHit] = useState(0);
  const box = useRef<HTMLDivElement>(null);
  const hits = useSearch(attempt, useDeferredValue(text), state);
  const folds = useMemo(() => (fold && usual ? usual.stretches.filter((s) => !unfolded.has(s.first)) : []), [fold, usual, unfolded]);
  const hidden = folds.reduce((n, f) => n + f.last - f.first + 1, 0);
  const rows = useMemo(() => rowsOf(state.lines, folds), [state.lines, folds]);
  const virtual = useVirtualizer({ count: rows.count, getScrollElement: () => box.current, estimateSize: () => 19, overscan: 20 });
  const items = virtual.getVirtualItems();
  const pages = useMemo(() => pagesOf(items.map((i) => rows.at(i.index))), [items, rows]);
  const lines = useLines(attempt, pages, state);
  const show = (line: number, align: "center" | "start" = "center") => {
    const inside = folds.find((f) => f.first <= line && line <= f.last);
    if (inside) setUnfolded((kept) => new Set([...kept, inside.first]));
    setFollow(false);
    // after the fold has opened
    requestAnimationFrame(() => virtual.scrollToIndex(rowsOf(state.lines, folds.filter((f) => f !== inside)).of(line), { align }));
  };
  useLayoutEffect(() => {
    if (follow && !state.complete && rows.count > 0) virtual.scrollToIndex(rows.count - 1);
  }, [follow, state.complete, rows.count, virtual]);
  useEffect(() => {
    if (jump) show(jump.line, "start");
  }, [jump]); // eslint-disable-line react-hooks/exhaustive-deps -- only a new jump moves the log
  const arrived = useRef(false);
  useEffect(() => {
    if (arrived.current || !usual || !state.lines) return;
    arrived.current = true;
    if (address.line !== undefined) show(address.line);
    else if (failed && usual.problem !== null) show(usual.problem);
  }, [usual, state.lines]); // eslint-disable-line react-hooks/exhaustive-deps -- the log is moved once, on arrival
  const toHit = (index: number) => {
    const count = hits?.lines.length ?? 0;
    const wrapped = (index + count) % Math.max(1, count);
    setHit(wrapped);
    const line = hits?.lines[wrapped];
    if (line !== undefined) show(line);
  };
  const current = text ? hits?.lines[hit] : undefined;
  return (
    <div>
      <div className={classes.bar}>
        <TextInput
          size="xs"
          w={200}
          placeholder="Search the log"
          aria-label="Search the log"
          value={text}
          onChange={(e) => {
            setText(e.currentTarget.value);
            setHit(0);
          }}
          onKeyDown={(e) => e.key === "Enter" && toHit(e.shiftKey ? hit - 1 : current === undefined || text !== "" ? hit + (hits && lines.has(hits.lines[hit] ?? 0) ? 1 : 0) : hit)}
        />
        {text && hits && <span className="soft">{hits.count ? `${hit + 1} of ${counted(hits.count, "line")}` : "no line"}</span>}
        {usual?.problem != null && (
          <button type="button" className={`plain ${classes.jump ?? ""}`} onClick={() => show(usual.problem ?? 1)}>
            First problem
          </button>
        )}
        <Checkbox size="xs" label="Follow" checked={follow} onChange={(e) => setFollow(e.currentTarget.checked)} disabled={state.complete} />
        <Checkbox size="xs" label="Wrap" checked={wrap} onChange={(e) => setWrap(e.currentTarget.checked)} />
        <Checkbox size="xs" label="Times" checked={times} onChange={(e) => setTimes(e.currentTarget.checked)} />
        {usual && usual.stretches.length > 0 && (
          <Checkbox
            size="xs"
            label="Fold usual lines"
            checked={fold}
            onChange={(e) => {
              setWished(e.currentTarget.checked);
              setUnfolded(new Set());
            }}
          />
        )}
        <span className="soft" style={{ marginLeft: "auto" }} data-testid="log-size">
          {counted(state.lines, "line")}
          {hidden > 0 && `, ${hidden.toLocaleString("en")} usual`}, {size(state.size)}
        </span>
        <a href={`/api/v1/attempts/${attempt}/log/raw`}>Download</a>
      </div>
      <div ref={box} className={`mono ${classes.log ?? ""} ${wrap ? (classes.wrapped ?? "") : ""}`} tabIndex={0} role="log" aria-label="Log" aria-live="off" data-testid="log">
        {state.lines === 0 && <div className={classes.empty}>{state.complete ? "Nothing was printed." : "Nothing is printed yet."}</div>}
        <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {items.map((item) => {
            const row = rows.at(item.index);
            const place = { ref: wrap ? virtual.measureElement : undefined, "data-index": item.index, style: { transform: `translateY(${item.start}px)` } };
            if (row.kind === "fold") {
              const many = row.fold.last - row.fold.first + 1;
              return (
                <div key={item.key} {...place} className={classes.line}>
                  <button type="button" className={`plain ${classes.fold ?? ""}`} onClick={() => setUnfolded((kept) => new Set([...kept, row.fold.first]))}>
                    usual, {counted(many, "line")} that passing runs print too
                  </button>
                </div>
              );
            }
            return (
              <div key={item.key} {...place} className={classes.line} data-hit={current === row.line} data-here={address.line === row.line}>
                <a
                  className={classes.number}
                  href={`#${row.line}`}
                  onClick={(e) => {
                    e.preventDefault();
                    go({ line: row.line }, true);
                  }}
                >
                  {row.line}
                </a>
                <Line line={lines.get(row.line)} times={times} />
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}

function pagesOf(rows: ReturnType<ReturnType<typeof rowsOf>["at"]>[]): number[] {
  return [...new Set(rows.flatMap((r) => (r.kind === "line" ? [Math.floor((r.line - 1) / PAGE)] : [])))];
}

const Line = memo(function Line({ line, times }: { line: LogLine | undefined; times: boolean }) {
  if (!line) return <span className="soft">…</span>;
  return (
    <span>
      {times && (
        <span className={classes.time} title={exact(line.at)}>
          {new Date(line.at).toISOString().slice(11, 21)}
        </span>
      )}
      {spans(line.text).map((s, i) => (
        <span key={i} className={s.colour === undefined ? undefined : classes[`c${s.colour}`]} style={s.bold ? { fontWeight: 650 } : s.faint ? { opacity: 0.75 } : undefined}>
          {s.text}
        </span>
      ))}
      {line.longer > 0 && <span className="soft"> … {line.longer.toLocaleString("en")} more bytes in the download</span>}
    </span>
  );
});
