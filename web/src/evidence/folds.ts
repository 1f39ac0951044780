/** The rows of a log on the screen: lines, and stretches of usual lines folded into one row each. */

export interface Fold {
  first: number;
  last: number;
}

export type Row = { kind: "line"; line: number } | { kind: "fold"; fold: Fold };

interface Part {
  row: number; // the first row of this part
  line: number; // the first line of it
  rows: number;
  fold: Fold | undefined;
}

export interface Rows {
  count: number;
  at: (row: number) => Row;
  /** The row that shows a line, or the fold that hides it. */
  of: (line: number) => number;
}

/** Rows of `lines` lines where `folds` (in order, apart from each other) are one row each. */
export function rowsOf(lines: number, folds: Fold[]): Rows {
  const parts: Part[] = [];
  let row = 0;
  let line = 1;
  const add = (rows: number, fold: Fold | undefined) => {
    if (rows > 0) parts.push({ row, line, rows, fold });
    row += rows;
  };
  for (const fold of folds) {
    if (fold.first < line || fold.last > lines) continue;
    add(fold.first - line, undefined);
    line = fold.first;
    add(1, fold);
    line = fold.last + 1;
  }
  add(lines - line + 1, undefined);
  const partOf = (value: number, key: "row" | "line"): Part | undefined => {
    let low = 0;
    let high = parts.length - 1;
    while (low < high) {
      const middle = (low + high + 1) >> 1;
      if ((parts[middle]?.[key] ?? 0) <= value) low = middle;
      else high = middle - 1;
    }
    return parts[low];
  };
  return {
    count: row,
    at: (index) => {
      const part = partOf(index, "row");
      if (!part) return { kind: "line", line: 1 };
      return part.fold ? { kind: "fold", fold: part.fold } : { kind: "line", line: part.line + index - part.row };
    },
    of: (wanted) => {
      const part = partOf(wanted, "line");
      if (!part) return 0;
      return part.fold ? part.row : part.row + Math.min(wanted - part.line, part.rows - 1);
    },
  };
}
