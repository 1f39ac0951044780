import { expect, test } from "vitest";
import type { Cell } from "../api/client";
import { pivot, usualRows } from "./pivot";

const cell = (values: Record<string, string>) => ({ values, key: JSON.stringify(values) }) as unknown as Cell;
const cells = ["3.8", "3.12"].flatMap((python) => ["nearest", "bankers"].map((rounding) => cell({ python, rounding }))).slice(1);

test("every cell stands where its row and column meet, a dropped one is a hole", () => {
  const table = pivot(cells, ["rounding"], ["python"]);
  expect(table.rows).toEqual([["bankers"], ["nearest"]]);
  expect(table.columns).toEqual([["3.8"], ["3.12"]]);
  expect(table.at(["nearest"], ["3.8"])).toBeUndefined();
  expect(table.at(["bankers"], ["3.12"])?.values).toEqual({ python: "3.12", rounding: "bankers" });
});

test.each([
  [{ python: 5, os: 3 }, 1200, ["os"], "wide tables, as flat as can be"],
  [{ python: 12, os: 2 }, 700, ["python"], "no wider than the window"],
  [{ python: 4, db: 3, os: 2, cache: 4 }, 1200, undefined, "four dimensions"],
])("a table comes nearest to the window: %j in %i px", (sizes, width, rows, why) => {
  const made = Object.entries(sizes).reduce<Record<string, string>[]>((all, [name, n]) => all.flatMap((v) => Array.from({ length: n }, (_, i) => ({ ...v, [name]: String(i) }))), [{}]).map(cell);
  const found = usualRows(made, width);
  if (rows) expect(found, why).toEqual(rows);
  const table = pivot(made, found, Object.keys(sizes).filter((d) => !found.includes(d)));
  expect(110 + table.columns.length * (made.length >= 30 ? 58 : 124)).toBeLessThanOrEqual(width);
});

test("a single dimension lies across, further ones stand on rows", () => {
  expect(usualRows([cell({ lua: "5.1" }), cell({ lua: "5.4" })])).toEqual([]);
  expect(pivot([cell({})], [], []).columns).toEqual([[]]);
});
