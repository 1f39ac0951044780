import { expect, test } from "vitest";
import type { Cell, TestHeading } from "../api/client";
import { choices, columnHeads, headingAt, layout, toggled } from "./tree";

const heading = (tests: number) => ({ tests }) as TestHeading;
const cells = ["5.1", "5.4"].flatMap((lua) => ["a", "b", "c"].map((gauge) => ({ job: "unit", key: `${lua} ${gauge}`, values: { lua, gauge } }) as unknown as Cell));

test("folded headings take one line, the others one more for each test, in the server's order", () => {
  const made = layout([heading(2), heading(3), heading(1)], (i) => i === 1);
  expect(made.lines).toBe(6);
  expect([0, 1, 2, 3, 4, 5].map(made.at)).toEqual([{ heading: 0 }, { test: 0 }, { test: 1 }, { heading: 1 }, { heading: 2 }, { test: 5 }]);
  expect(layout([], () => false).lines).toBe(0);
  const named = [{ job: "unit", suite: "", klass: "tides.gauge", tests: 2 }, { job: "slow", suite: "s", klass: "", tests: 1 }] as TestHeading[];
  expect([0, 1, 2, 3].map((offset) => headingAt(named, offset))).toEqual(["unit › tides.gauge", "unit › tides.gauge", "slow › s", ""]);
});

test("neighbours with one value share a column heading, below another value they do not", () => {
  expect(columnHeads(cells).map((r) => [r.label, ...r.spans.map((s) => `${s.text}×${s.cells}`)])).toEqual([
    ["lua", "5.1×3", "5.4×3"],
    ["gauge", "a×1", "b×1", "c×1", "a×1", "b×1", "c×1"],
  ]);
  const two = [...cells.slice(0, 1), { ...cells[0], job: "slow" } as Cell];
  expect(columnHeads(two).map((r) => r.spans.length)).toEqual([2, 2, 2]);
});

test("values switch on and off, dimension by dimension; nothing chosen stands for all", () => {
  const one = toggled(cells, [], "lua", "5.1");
  expect(one).toEqual(["unit/5.1 a", "unit/5.1 b", "unit/5.1 c"]);
  expect(choices(cells, one)[0]?.values).toEqual([{ value: "5.1", chosen: true }, { value: "5.4", chosen: false }]);
  const both = toggled(cells, one, "gauge", "b");
  expect(both).toEqual(["unit/5.1 b"]);
  expect(toggled(cells, both, "lua", "5.1")).toEqual(["unit/5.1 b", "unit/5.4 b"]);
  expect(toggled(cells, one, "lua", "5.4")).toEqual([]);
});
