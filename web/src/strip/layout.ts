/** Where everything on the strip stands: pure geometry, shared by drawing, hit-testing and tests. */
import type { Column, Lane } from "../api/client";
import { markOfLetter, type Mark } from "../marks/shapes";

export const COLUMN = 18;
export const GAP_COLUMN = 7; // commits without a run of their own
export const MARK_W = 7;
export const MARK_H = 6;
export const ROW = 7;
export const TOP = 15;
export const FOOT = 14;
export const COVERAGE = 16; // more room at the top for the line of coverage
const LANE_GAP = 4;

export interface Spot {
  mark: Mark;
  x: number;
  y: number;
  w: number;
  h: number;
  advisory: boolean;
}

/** Left edges of the columns, and the whole width; a column's gap lies to its left. */
export function edges(columns: Column[]): { left: number[]; width: number } {
  const left: number[] = [];
  let x = 0;
  for (const column of columns) {
    if (column.gap > 0) x += GAP_COLUMN;
    left.push(x);
    x += COLUMN;
  }
  return { left, width: x };
}

/** The index of the column at `x`, by its left edges. */
export function columnAt(left: number[], x: number): number | undefined {
  let low = 0;
  let high = left.length - 1;
  while (low < high) {
    const middle = (low + high + 1) >> 1;
    if ((left[middle] ?? 0) <= x) low = middle;
    else high = middle - 1;
  }
  const edge = left[low];
  return edge !== undefined && x >= edge && x < edge + COLUMN ? low : undefined;
}

/** The height that all marks of these lanes would need. */
export function fullHeight(lanes: Lane[], top = TOP): number {
  const rows = lanes.reduce((sum, lane) => sum + Math.ceil(lane.keys.length / 2), 0);
  return top + rows * ROW + Math.max(0, lanes.length - 1) * LANE_GAP + FOOT;
}

const quiet = new Set<Mark>(["passed", "skipped", "not-selected", "absent", "waiting"]); // not drawn by themselves when a column has to be short

/** The marks of one column: two a row; when the height is spent, a job becomes one proportional mark and its exceptions. */
export function spots(lanes: Lane[], marks: string, height: number, top = TOP): Spot[] {
  const whole = fullHeight(lanes, top) <= height;
  const found: Spot[] = [];
  let at = 0;
  let y = top;
  const bottom = height - FOOT;
  for (const lane of lanes) {
    const cells = Array.from(marks.slice(at, at + lane.keys.length));
    at += lane.keys.length;
    const shown = whole ? cells.map((letter, i) => ({ letter, i })) : exceptions(cells);
    if (!whole) {
      const ran = cells.filter((c) => c !== " ").length;
      const well = cells.filter((c) => markOfLetter(c) === "passed").length;
      if (well > 0) found.push({ mark: "passed", x: 1, y, w: Math.max(2, (15 * well) / ran), h: MARK_H, advisory: false });
      y += ROW;
    }
    shown.forEach(({ letter, i }, order) => {
      const place = whole ? i : order;
      const row = y + Math.floor(place / 2) * ROW;
      if (letter === " " || row + MARK_H > bottom) return;
      const advisory = letter !== letter.toLowerCase();
      found.push({ mark: markOfLetter(letter), x: 1 + (place % 2) * (MARK_W + 1), y: row, w: MARK_W, h: MARK_H, advisory });
    });
    y += Math.ceil((whole ? cells.length : shown.length) / 2) * ROW + LANE_GAP;
  }
  return found;
}

function exceptions(cells: string[]): { letter: string; i: number }[] {
  return cells.map((letter, i) => ({ letter, i })).filter(({ letter }) => !quiet.has(markOfLetter(letter)));
}

/** The column to select next whose verdict differs from the one before it, in a direction; -1 when there is none. */
export function nextChange(columns: Column[], from: number, direction: 1 | -1): number {
  for (let i = from + direction; i > 0 && i < columns.length; i += direction) {
    if (columns[i]?.run.word !== columns[i - 1]?.run.word) return i;
  }
  return -1;
}
