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

/** With two dimensions or more the last ones go on columns, the first on rows; a single one lies across. */
export function usualRows(cells: Cell[]): string[] {
  const dimensions = dimensionsOf(cells);
  return dimensions.length < 2 ? [] : dimensions.slice(1);
}
