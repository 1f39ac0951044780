import { expect, test } from "vitest";
import type { FileShare } from "../api/client";
import { areas, below, finer, markOf, ordered, percent, ranges, stepOf, straight, written, path, placed } from "./shapes";

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

test("areas are lines, folders their sum, and a folder of one folder is one", () => {
  const file = (path: string, covered: number, valid: number, before: number | null = null) =>
    ({ path, covered, valid, before: before === null ? null : { covered: before, valid, text: "" }, changed: 0, lost: 0 });
  const made = areas([file("src/lib/a.lua", 3, 4), file("src/lib/b.lua", 4, 4, 2), file("top.lua", 0, 2), file("none.lua", 0, 0)]);
  expect(made.map((a) => [a.name, a.value, a.covered])).toEqual([["src/lib", 8, 7], ["top.lua", 2, 0]]);
  expect(made[0]?.children?.map((a) => [a.path, a.change])).toEqual([["src/lib/a.lua", null], ["src/lib/b.lua", 0.5]]);
});

test.each([
  [{ covered: 49, value: 100, change: null }, "share", 0],
  [{ covered: 50, value: 100, change: null }, "share", 1],
  [{ covered: 84, value: 100, change: null }, "share", 2],
  [{ covered: 9999, value: 10000, change: null }, "share", 3],
  [{ covered: 2, value: 2, change: null }, "share", 4],
  [{ covered: 1, value: 2, change: -0.05 }, "change", 0],
  [{ covered: 1, value: 2, change: -0.001 }, "change", 1],
  [{ covered: 1, value: 2, change: null }, "change", 2],
  [{ covered: 1, value: 2, change: 0.01 }, "change", 3],
  [{ covered: 1, value: 2, change: 0.05 }, "change", 4],
] as const)("an area is tinted by a step: %j by %s", (area, tint, step) => {
  expect(stepOf(area, tint)).toBe(step);
});

test("a line over time goes from the left to the right, with the least at the foot", () => {
  const points = placed([{ share: 80 }, { share: null }, { share: 90 }, { share: 85 }], 100, 50);
  expect(points.map((p) => [p.x, p.y])).toEqual([[6, 44], [50, 6], [94, 25]]);
  expect(path(points)).toBe("M6.0 44.0L50.0 6.0L94.0 25.0");
});

test("a line over time is flat where nothing changed, and nothing without points", () => {
  expect(placed([{ share: 80 }, { share: 80 }], 100, 50).map((p) => p.y)).toEqual([25, 25]);
  expect(placed([{ share: null }], 100, 50)).toEqual([]);
  expect(path([])).toBe("");
});

const share = (covered: number, valid: number, text: string) => ({ covered, valid, text });
test.each([
  [null, null, ""],
  [share(3, 4, "75.0 %"), null, " Besides, 75.0 % of 4 branches were run."],
  [share(1, 1, "100 %"), share(5, 6, "83.3 %"), " Besides, 100 % of 1 branch and 83.3 % of 6 functions were run."],
])("branches and functions are told where reports tell them: %j, %j", (branch, called, said) => {
  expect(finer({ branch, function: called })).toBe(said);
});
