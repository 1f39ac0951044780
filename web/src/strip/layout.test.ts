import { describe, expect, test } from "vitest";
import type { Column, Lane, Strip } from "../api/client";
import { COLUMN, columnAt, edges, fullHeight, GAP_COLUMN, nextChange, spots } from "./layout";
import { join } from "./merge";

const column = (number: number, marks: string, verdict = "clear", gap = 0) =>
  ({ run: { number, word: verdict, at: "2026-11-23T00:00:00Z" }, marks, new: 0, fixed: 0, coverage: null, gap }) as unknown as Column;
const lane = (job: string, ...keys: string[]): Lane => ({ job, title: job, keys });
const strip = (lanes: Lane[], columns: Column[]) => ({ lanes, columns }) as unknown as Strip;

test("a point belongs to the column under it, and gaps to none", () => {
  const { left, width } = edges([column(1, ""), column(2, "", "clear", 2), column(3, "")]);
  expect(left).toEqual([0, COLUMN + GAP_COLUMN, 2 * COLUMN + GAP_COLUMN]);
  expect(width).toBe(3 * COLUMN + GAP_COLUMN);
  expect([0, 17.9, 18.5, COLUMN + GAP_COLUMN, width - 1, width + 5].map((x) => columnAt(left, x))).toEqual([0, 0, undefined, 1, 2, undefined]);
  expect(columnAt([], 3)).toBeUndefined();
});

describe("the marks of a column", () => {
  const lanes = [lane("a", "1", "2", "3"), lane("b", "1")];
  test("stand two a row and in the order of the cells when there is room", () => {
    const found = spots(lanes, "pnkV", fullHeight(lanes));
    expect(found.map((s) => s.mark)).toEqual(["passed", "new", "known", "void"]);
    expect(found.map((s) => s.advisory)).toEqual([false, false, false, true]);
    expect(new Set(found.map((s) => `${s.x}/${s.y}`)).size).toBe(4);
  });
  test("collapse to one proportional mark a job when the height is spent, and exceptions are still drawn", () => {
    const many = [lane("a", ...Array.from({ length: 200 }, (_, i) => String(i)))];
    const found = spots(many, "p".repeat(190) + "n" + "p".repeat(9), 120);
    expect(found.map((s) => s.mark)).toEqual(["passed", "new"]);
    expect(found[0]?.w).toBeCloseTo((15 * 199) / 200);
  });
  test("leave a place empty where a run has no such cell", () => {
    expect(spots(lanes, "p  p", 200)).toHaveLength(2);
  });
});

test("the next change of the verdict is found in both directions", () => {
  const columns = ["clear", "clear", "held", "held", "clear"].map((v, i) => column(i + 1, "", v));
  expect(nextChange(columns, 0, 1)).toBe(2);
  expect(nextChange(columns, 2, 1)).toBe(4);
  expect(nextChange(columns, 4, 1)).toBe(-1);
  expect(nextChange(columns, 4, -1)).toBe(2);
  expect(nextChange(columns, 1, -1)).toBe(-1);
});

test("history whose cells differ is joined without mixing them up", () => {
  const recent = strip([lane("a", "x", "y")], [column(2, "pn"), column(3, "np")]);
  const history = strip([lane("a", "y"), lane("old", "z")], [column(1, "kv")]);
  const joined = join([history], recent, 2);
  expect(joined.lanes).toEqual([lane("a", "x", "y"), lane("old", "z")]);
  expect(joined.columns.map((c) => [c.run.number, c.marks])).toEqual([[1, " kv"], [2, "pn "], [3, "np "]]);
  expect(join([], recent, undefined).columns).toHaveLength(2);
  const oldest = strip([lane("a", "x")], [column(0, "f")]);
  expect(join([history, oldest], recent, 2).columns.map((c) => [c.run.number, c.marks])).toEqual([[0, "f  "], [1, " kv"], [2, "pn "], [3, "np "]]);
});
