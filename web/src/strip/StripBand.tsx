import { useComputedColorScheme } from "@mantine/core";
import { useElementSize } from "@mantine/hooks";
import { useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState, type PointerEvent } from "react";
import { ago, duration, exact, short } from "../app/words";
import { VerdictMark } from "../marks/StatusMark";
import { COLUMN, columnAt, edges, fullHeight, GAP_COLUMN, TOP } from "./layout";
import { Painter } from "./paint";
import classes from "./strip.module.css";
import type { StripData } from "./useStrip";

interface Props {
  strip: StripData;
  selected: number | undefined;
  base: number | undefined;
  height: number;
  now: number;
  coverage: boolean;
  onHeight: (height: number) => void;
  onSelect: (run: number) => void;
  onBase: (run: number) => void;
  onRange: (from: number, to: number) => void; // chosen by dragging with Shift
}

const END = 12; // free space right of the newest run
const LEAST = 96;
const MOST = 240;

/** The band of runs: newest at the right, a column a run. Its list is the same for screen readers. */
export function StripBand({ strip, selected, base, height, now, coverage, onHeight, onSelect, onBase, onRange }: Props) {
  const { columns, lanes } = strip;
  const { ref: sized, width } = useElementSize();
  const scrollerRef = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const [hovered, setHovered] = useState<{ index: number; x: number }>();
  const dragging = useRef(false);
  const [range, setRange] = useState<{ from: number; to: number; left: number; width: number }>();
  const scheme = useComputedColorScheme("light");
  const ratio = window.devicePixelRatio || 1;
  const place = useMemo(() => edges(columns), [columns]);
  const indexOf = useCallback((run: number | undefined) => (run === undefined ? undefined : columns.findIndex((c) => c.run.number === run)), [columns]);
  const painter = useMemo(() => new Painter(scheme, ratio, height, coverage), [scheme, ratio, height, coverage]);
  const lanesText = JSON.stringify(lanes);
  useMemo(() => painter.forget(), [painter, lanesText]); // eslint-disable-line react-hooks/exhaustive-deps -- pictures depend on the lanes
  const room = Math.max(place.width + END, width);
  const shift = room - END - place.width; // few runs stand at the right

  const paint = useCallback(() => {
    const ctx = canvas.current?.getContext("2d");
    if (!ctx || !scrollerRef.current || width === 0) return;
    painter.paint(ctx, {
      columns, lanes, left: place.left, selected: indexOf(selected), base: indexOf(base), hovered: hovered?.index,
      scroll: scrollerRef.current.scrollLeft - shift, width, height,
    }); // prettier-ignore
  }, [painter, columns, lanes, place, indexOf, selected, base, hovered, shift, width, height]);
  const paintingRef = useRef(paint);
  useLayoutEffect(() => {
    paintingRef.current = paint;
    paint();
  }, [paint]);
  useEffect(() => void document.fonts.ready.then(() => paintingRef.current()), []);

  useKeepPlace(scrollerRef, columns, place.width, width);
  useShow(scrollerRef, place.left, indexOf(selected), shift, width);

  const scrolled = () => {
    paintingRef.current();
    if ((scrollerRef.current?.scrollLeft ?? 1e9) < width) strip.loadOlder();
  };
  const at = (event: PointerEvent) => {
    const box = event.currentTarget.getBoundingClientRect();
    return columnAt(place.left, event.clientX - box.left + (scrollerRef.current?.scrollLeft ?? 0) - shift);
  };
  const spanned = (from: number, to: number) => {
    const ends = [from, to].map((run) => (place.left[indexOf(run) ?? 0] ?? 0) + shift - (scrollerRef.current?.scrollLeft ?? 0));
    return { from, to, left: Math.min(...ends), width: Math.max(...ends) - Math.min(...ends) + COLUMN };
  };
  const pointed = (event: PointerEvent<HTMLDivElement>) => {
    const index = at(event);
    setHovered(index === undefined ? undefined : { index, x: event.clientX - event.currentTarget.getBoundingClientRect().left });
    const run = index === undefined ? undefined : columns[index]?.run.number;
    if (dragging.current && run !== undefined) onBase(run);
    if (range && run !== undefined) setRange(spanned(range.from, run));
  };
  const pressed = (event: PointerEvent<HTMLDivElement>) => {
    const index = at(event);
    const run = index === undefined ? undefined : columns[index]?.run.number;
    if (run === undefined) return;
    const y = event.clientY - event.currentTarget.getBoundingClientRect().top;
    if (event.shiftKey) setRange(spanned(run, run));
    else if (y < TOP && run === base) dragging.current = true;
    else onSelect(run);
  };
  const release = () => {
    dragging.current = false;
    if (range && range.from !== range.to) onRange(Math.min(range.from, range.to), Math.max(range.from, range.to));
    setRange(undefined);
  };

  return (
    <div className={classes.band} ref={sized} style={{ height }} role="img" aria-label={`Strip of ${columns.length} runs; the list shows the same`}>
      <canvas ref={canvas} width={width * ratio} height={height * ratio} style={{ width, height }} className={classes.canvas} />
      <div
        ref={scrollerRef}
        className={classes.scroller}
        data-testid="strip-scroller"
        onScroll={scrolled}
        onPointerMove={pointed}
        onPointerLeave={() => setHovered(undefined)}
        onPointerDown={pressed}
        onPointerUp={release}
      >
        <div style={{ width: room, height: 1 }} />
      </div>
      {range && <div className={classes.range} style={{ left: range.left, width: range.width, height }} aria-hidden />}
      {hovered && columns[hovered.index] && <Hover column={columns[hovered.index]} x={Math.min(Math.max(hovered.x, 170), width - 170)} y={height} now={now} />}
      <Edge height={height} full={fullHeight(lanes)} onHeight={onHeight} />
    </div>
  );
}

/** Stay at the newest run while it is in view; stay at the same run when older ones are loaded. */
function useKeepPlace(scrollerRef: React.RefObject<HTMLDivElement | null>, columns: StripData["columns"], whole: number, width: number) {
  const before = useRef({ oldest: 0, whole: 0, width: 0 });
  useLayoutEffect(() => {
    const box = scrollerRef.current;
    if (!box) return;
    const last = before.current;
    const oldest = columns[0]?.run.number ?? 0;
    const atEnd = box.scrollLeft + last.width >= last.whole - 2 * COLUMN;
    if (last.whole === 0 || (atEnd && oldest === last.oldest) || width !== last.width) box.scrollLeft = box.scrollWidth;
    else if (oldest !== last.oldest) box.scrollLeft += whole - last.whole;
    before.current = { oldest, whole, width };
  }, [scrollerRef, columns, whole, width]);
}

/** Bring the selected column into view. */
function useShow(scrollerRef: React.RefObject<HTMLDivElement | null>, left: number[], index: number | undefined, shift: number, width: number) {
  const shown = useRef<number>(undefined);
  useLayoutEffect(() => {
    const box = scrollerRef.current;
    if (!box || index === undefined || index < 0 || shown.current === index) return;
    shown.current = index;
    const x = (left[index] ?? 0) + shift;
    if (x < box.scrollLeft) box.scrollLeft = x - 60;
    else if (x + COLUMN > box.scrollLeft + width) box.scrollLeft = x + COLUMN + 60 - width;
  }, [scrollerRef, left, index, shift, width]);
}

function Hover({ column, x, y, now }: { column: StripData["columns"][number] | undefined; x: number; y: number; now: number }) {
  if (!column) return null;
  const { run, gap } = column;
  const seconds = run.took ?? undefined;
  return (
    <div className={classes.hover} style={{ left: x, top: y + 4 }} role="tooltip">
      <div className={classes.hoverTitle}>
        <VerdictMark verdict={run.word} /> #{run.number} {run.title}
      </div>
      <div className="soft">
        {run.author} · {short(run.commit)} · {run.event} · <span title={exact(run.at)}>{ago(run.at, now)}</span>
        {seconds !== undefined && ` · ${duration(seconds)}`}
      </div>
      <div>{run.sentence}</div>
      {gap > 0 && <div className="soft">{gap === 1 ? "One commit" : `${gap} commits`} before it, pushed together, without a run of their own.</div>}
    </div>
  );
}

function Edge({ height, full, onHeight }: { height: number; full: number; onHeight: (height: number) => void }) {
  const start = useRef<{ y: number; height: number }>(undefined);
  const set = (value: number) => onHeight(Math.round(Math.min(MOST, Math.max(LEAST, value))));
  return (
    <div
      className={classes.edge}
      role="separator"
      aria-orientation="horizontal"
      aria-label="Height of the strip"
      aria-valuenow={height}
      aria-valuemin={LEAST}
      aria-valuemax={MOST}
      tabIndex={0}
      onDoubleClick={() => set(full)}
      onKeyDown={(e) => {
        if (e.key === "ArrowDown") set(height + ROW_STEP);
        if (e.key === "ArrowUp") set(height - ROW_STEP);
      }}
      onPointerDown={(e) => {
        start.current = { y: e.clientY, height };
        e.currentTarget.setPointerCapture(e.pointerId);
      }}
      onPointerMove={(e) => start.current && set(start.current.height + e.clientY - start.current.y)}
      onPointerUp={() => (start.current = undefined)}
    />
  );
}

const ROW_STEP = GAP_COLUMN * 2;
