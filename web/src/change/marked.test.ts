import { expect, test } from "vitest";
import type { Finding, RunCoverage } from "../api/client";
import { marksOf } from "./marked";

const finding = (id: string, ...places: [string, number][]) => ({ id, places: places.map(([file, line]) => ({ file, line, name: "" })) }) as unknown as Finding;

test("a line is marked by the first finding that names it, and by coverage where nothing ran it", () => {
  const coverage = { change: { files: [{ path: "a.lua", uncovered: [4, 5] }] } } as unknown as RunCoverage;
  const marks = marksOf([finding("one", ["a.lua", 3], ["b.lua", 1]), finding("two", ["a.lua", 3], ["a.lua", 9])], coverage);
  expect([...(marks.get("a.lua")?.failing ?? [])].map(([line, f]) => [line, f.id])).toEqual([[3, "one"], [9, "two"]]);
  expect([...(marks.get("a.lua")?.bare ?? [])]).toEqual([4, 5]);
  expect(marks.get("b.lua")?.bare.size).toBe(0);
  expect(marksOf([], undefined).size).toBe(0);
});
