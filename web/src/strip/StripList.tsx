import { useVirtualizer } from "@tanstack/react-virtual";
import { useLayoutEffect, useRef, type KeyboardEvent } from "react";
import { ago, duration, exact } from "../app/words";
import { StatusMark, VerdictMark } from "../marks/StatusMark";
import { markOfLetter } from "../marks/shapes";
import classes from "./strip.module.css";
import type { StripData } from "./useStrip";

interface Props {
  strip: StripData;
  selected: number | undefined;
  base: number | undefined;
  now: number;
  onSelect: (run: number) => void;
}

/** The strip as rows, newest first: the same runs, readable by everybody. */
export function StripList({ strip, selected, base, now, onSelect }: Props) {
  const rows = [...strip.columns].reverse();
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => 28, overscan: 10 });
  const index = rows.findIndex((c) => c.run.number === selected);
  useLayoutEffect(() => {
    if (index >= 0) virtual.scrollToIndex(index);
  }, [index, virtual]);
  const scrolled = () => {
    const at = box.current;
    if (at && at.scrollTop + at.clientHeight > at.scrollHeight - 400) strip.loadOlder();
  };
  // The newest run is at the top: downwards is back in time, as ← is on the strip.
  const moved = (event: KeyboardEvent) => {
    const by: Record<string, number> = { ArrowDown: index + 1, ArrowUp: index - 1, PageDown: index + 8, PageUp: index - 8, Home: 0, End: rows.length - 1 };
    const to = by[event.key];
    if (to === undefined) return;
    event.preventDefault();
    event.stopPropagation();
    const target = rows[Math.min(Math.max(0, to), rows.length - 1)];
    if (target) onSelect(target.run.number);
  };
  return (
    <div ref={box} className={classes.list} onScroll={scrolled} role="listbox" aria-label="Runs, newest first" aria-activedescendant={index >= 0 ? `run-${selected ?? ""}` : undefined} tabIndex={0} onKeyDown={moved}>
      <div style={{ height: virtual.getTotalSize(), position: "relative" }} role="presentation">
        {virtual.getVirtualItems().map((item) => {
          const column = rows[item.index];
          if (!column) return null;
          const { run } = column;
          const seconds = run.took ?? undefined;
          return (
            <div
              key={run.number}
              id={`run-${run.number}`}
              role="option"
              aria-selected={run.number === selected}
              data-base={run.number === base}
              className={classes.row}
              style={{ transform: `translateY(${item.start}px)` }}
              onClick={() => onSelect(run.number)}
            >
              <VerdictMark verdict={run.word} />
              <span className="tabular">#{run.number}</span>
              <span title={run.title}>{run.title}</span>
              <span className={`${classes.wide ?? ""} soft`}>{run.author}</span>
              <span className={`${classes.wide ?? ""} soft`} title={exact(run.at)}>
                {ago(run.at, now)}
              </span>
              <span className="soft">{run.sentence}</span>
              <span className="tabular">{[column.new > 0 && `${column.new} new`, column.fixed > 0 && `${column.fixed} fixed`].filter(Boolean).join(", ")}</span>
              <span className={`${classes.wide ?? ""} soft`}>{seconds === undefined ? run.state : duration(seconds)}</span>
              <span className={classes.cells} role="img" aria-label={`${column.marks.length} cells`}>
                {Array.from(column.marks.slice(0, 18)).map((letter, i) => (
                  <StatusMark key={i} mark={markOfLetter(letter)} size={8} advisory={letter !== letter.toLowerCase()} />
                ))}
              </span>
            </div>
          );
        })}
      </div>
    </div>
  );
}
