import { expect, test } from "vitest";
import type { FileShare } from "../api/client";
import { below, markOf, ordered, percent, ranges, straight, written } from "./shapes";

const file = (path: string, covered: number, valid: number, more: Partial<FileShare> = {}): FileShare => ({ path, covered, valid, before: null, changed: 0, lost: 0, ...more });

test.each([
  [[], 1, ""],
  [[3], 1, "3"],
  [[1, 2, 3, 7], 1, "1–3, 7"],
  [[1, 4, 9], 3, "1–4, 9"],
  [[5, 5, 6], 1, "5–6"],
])("lines %j within %i are %s", (lines, gap, said) => {
  expect(ranges(lines, gap).map(written).join(", ")).toBe(said);
});

test.each([
  [null, 0, 0, "none"],
  [0, 0, 2, "bare"],
  [4, 1, 2, "partly"],
  [4, 2, 2, "covered"],
  [1, 0, 0, "covered"],
] as const)("%s hits with %i of %i branches are %s", (hits, taken, branches, mark) => {
  expect(markOf(hits, taken, branches)).toBe(mark);
});

const FILES = [
  file("src/locks/gate.lua", 8, 10, { before: { covered: 10, valid: 10, text: "" }, changed: 2 }),
  file("src/locks/pump.lua", 0, 10, { lost: 1 }),
  file("src/tide.lua", 3, 3),
];

test("folders are summed, and a chain of single folders is one step", () => {
  expect(straight(FILES, "")).toBe("src");
  const rows = ordered(below(FILES, "src"), "name");
  expect(rows.map((r) => [r.name, r.folder, r.covered, r.valid, r.changed, r.lost, r.files])).toEqual([
    ["locks", true, 8, 20, 2, 1, 2],
    ["tide.lua", false, 3, 3, 0, 0, 1],
  ]);
  expect(rows[0]?.before).toEqual({ covered: 10, valid: 10 });
  expect(below(FILES, "nowhere")).toEqual([]);
});

test("rows are ordered as asked", () => {
  const rows = below(FILES, "src/locks");
  expect(ordered(rows, "share").map((r) => r.name)).toEqual(["pump.lua", "gate.lua"]);
  expect(ordered(rows, "change").map((r) => r.name)).toEqual(["gate.lua", "pump.lua"]);
  expect(ordered(rows, "bare").map((r) => r.name)).toEqual(["gate.lua", "pump.lua"]);
});

test.each([
  [0, 0, "nothing to cover"],
  [9999, 10000, "99.9 %"],
  [75, 76, "98.7 %"],
  [1, 1, "100.0 %"],
  [2, 3, "66.7 %"],
])("%i of %i lines are %s", (covered, valid, said) => {
  expect(percent(covered, valid)).toBe(said);
});
