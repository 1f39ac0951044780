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

test("a single dimension lies across, further ones stand on rows", () => {
  expect(usualRows(cells)).toEqual(["rounding"]);
  expect(usualRows([cell({ lua: "5.1" }), cell({ lua: "5.4" })])).toEqual([]);
  expect(pivot([cell({})], [], []).columns).toEqual([[]]);
});
