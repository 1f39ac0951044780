import { expect, test } from "vitest";
import { rowsOf } from "./folds";

test.each([
  [10, [], 10],
  [10, [{ first: 3, last: 6 }], 7],
  [10, [{ first: 1, last: 10 }], 1],
  [10, [{ first: 1, last: 4 }, { first: 7, last: 10 }], 4],
  [0, [], 0],
  [5, [{ first: 3, last: 9 }], 5],
])("%i lines with folds %j are %i rows, and every line has a row that shows or hides it", (lines, folds, count) => {
  const rows = rowsOf(lines, folds);
  expect(rows.count).toBe(count);
  for (let line = 1; line <= lines; line++) {
    const row = rows.at(rows.of(line));
    if (row.kind === "line") expect(row.line).toBe(line);
    else expect(row.fold.first <= line && line <= row.fold.last).toBe(true);
  }
});
