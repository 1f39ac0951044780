/** Cells arranged in a table: dimensions on rows and columns. Pure, so that it can be tested alone. */
import type { Cell } from "../api/client";

export interface Pivot {
  rows: string[][]; // values of the row dimensions, one entry a row
  columns: string[][];
  at: (row: string[], column: string[]) => Cell | undefined;
}

export function dimensionsOf(cells: Cell[]): string[] {
  return [...new Set(cells.flatMap((c) => Object.keys(c.values)))];
}

const key = (values: string[]) => JSON.stringify(values);

/** The cells in a table by the values of the dimensions named. */
export function pivot(cells: Cell[], rowDimensions: string[], columnDimensions: string[]): Pivot {
  const take = (cell: Cell, dimensions: string[]) => dimensions.map((d) => cell.values[d] ?? "");
  const unique = (dimensions: string[]) => [...new Map(cells.map((c) => [key(take(c, dimensions)), take(c, dimensions)])).values()];
  const places = new Map(cells.map((c) => [key([...take(c, rowDimensions), ...take(c, columnDimensions)]), c]));
  return {
    rows: unique(rowDimensions),
    columns: unique(columnDimensions),
    at: (row, column) => places.get(key([...row, ...column])),
  };
}

/** From this many cells of a job on, its tiles are small. */
export const DENSE = 30;
const TILE = { usual: { w: 124, h: 52 }, dense: { w: 58, h: 27 } };
const HEAD = 110;

/** The rows with which the table of a job comes nearest to the window: no wider than it, and then as flat as can be. */
export function usualRows(cells: Cell[], width = 1200): string[] {
  const dimensions = dimensionsOf(cells);
  if (dimensions.length < 2) return [];
  const { w, h } = tileOf(cells);
  const splits = Array.from({ length: 2 ** dimensions.length - 2 }, (_, i) => dimensions.filter((_, bit) => ((i + 1) >> bit) & 1));
  const cost = (rows: string[]) => {
    const table = pivot(cells, rows, dimensions.filter((d) => !rows.includes(d)));
    const [across, down] = [HEAD + table.columns.length * w, table.rows.length * h];
    const empty = table.rows.length * table.columns.length - cells.length;
    return down + Math.max(0, across - width) * 40 + empty * 2 + rows.length;
  };
  return splits.reduce((best, rows) => (cost(rows) < cost(best) ? rows : best));
}

export const tileOf = (cells: Cell[]) => (cells.length >= DENSE ? TILE.dense : TILE.usual);

/** The cells with their marks against another run; those that cannot be compared with it keep their own. */
export function markedAgainst(cells: Cell[], marks: { job: string; key: string; mark: Cell["mark"] }[]): Cell[] {
  const told = new Map(marks.map((m) => [`${m.job}/${m.key}`, m.mark]));
  return cells.map((c) => ({ ...c, mark: told.get(`${c.job}/${c.key}`) ?? c.mark }));
}
