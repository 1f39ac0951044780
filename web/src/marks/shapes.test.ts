import { expect, test } from "vitest";
import { readAddress, written } from "../app/address";
import { ago, counted, duration, signed, size } from "../app/words";
import { palettes } from "./palette";
import { markNames, markOfLetter, shapeOf, verdictShape, type Mark } from "./shapes";

const marks = Object.keys(markNames) as Mark[];

test("every mark has a shape of its own, readable without its colour", () => {
  const outlines = marks.map((m) => JSON.stringify(shapeOf(m, 12, 12).map(({ fill, stroke, ...shape }) => [shape, Boolean(fill), Boolean(stroke)])));
  expect(new Set(outlines).size).toBe(marks.length);
  const feet = (["clear", "held", "undecided", "exempt"] as const).map((v) => JSON.stringify(verdictShape(v, 15, 6)));
  expect(new Set(feet).size).toBe(4);
});

test("letters of the strip name marks, capitals the advisory ones", () => {
  expect(markOfLetter("n")).toBe("new");
  expect(markOfLetter("N")).toBe("new");
  expect(markOfLetter("?")).toBe("absent");
});

function luminance(hex: string): number {
  const [r, g, b] = [1, 3, 5].map((i) => {
    const c = parseInt(hex.slice(i, i + 2), 16) / 255;
    return c <= 0.03928 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4;
  });
  return 0.2126 * (r ?? 0) + 0.7152 * (g ?? 0) + 0.0722 * (b ?? 0);
}

test.each(["light", "dark"] as const)("marks stand out from the %s paper by 3 to 1", (scheme) => {
  const inks = palettes[scheme];
  for (const ink of ["vermilion", "teal", "ochre", "graphite", "accent", "quietEdge", "faint"] as const) {
    const [a, b] = [luminance(inks[ink]), luminance(inks.paper)].sort((x, y) => y - x);
    expect(((a ?? 0) + 0.05) / ((b ?? 0) + 0.05), ink).toBeGreaterThanOrEqual(3);
  }
});

test("numbers are written in one way", () => {
  expect([0.004, 0.42, 12.4, 108, 120, 7500].map(duration)).toEqual(["4 ms", "0.4 s", "12 s", "1 min 48 s", "2 min", "2 h 5 min"]);
  expect([0.31, -5.42, 0.01].map(signed)).toEqual(["+0.3", "−5.4", "±0.0"]);
  expect([counted(1, "test"), counted(1204, "test"), counted(2, "match", "matches")]).toEqual(["1 test", "1,204 tests", "2 matches"]);
  expect([12, 4_500, 2_100_000].map(size)).toEqual(["12 B", "4.5 kB", "2.1 MB"]);
  const now = Date.parse("2026-11-23T12:00:00Z");
  expect(["2026-11-23T11:59:50Z", "2026-11-23T11:50:00Z", "2026-11-22T12:00:00Z", "2026-11-02T12:00:00Z"].map((t) => ago(t, now))).toEqual([
    "just now", "10 min ago", "1 day ago", "21 days ago",
  ]); // prettier-ignore
});

test("an address leaves out what is usual and keeps every selection", () => {
  expect(written({ project: "lock step" })).toBe("/p/lock%20step");
  expect(written({ project: "p", run: 7, section: "matrix", base: 3, cells: ["unit/lua=5.1", "unit/lua=5.4"], rows: [], show: "coverage" })).toBe(
    "/p/p/runs/7?section=matrix&base=3&cell=unit%2Flua%3D5.1&cell=unit%2Flua%3D5.4&rows=&show=coverage",
  );
});

test("what an address selects is read back from it, and nonsense selects nothing", () => {
  const full = { project: "a b", run: 7, section: "matrix", base: 3, cells: ["unit/lua=5.1"], tables: ["lua"], list: true } as const;
  const url = new URL(written({ ...full, cells: [...full.cells], tables: [...full.tables] }), "http://x");
  expect(readAddress(url.pathname, url.search)).toMatchObject(full);
  expect(readAddress("/p/%zz/runs/x", "?base=-1&section=nope&show=all")).toMatchObject({ project: "%zz", run: undefined, base: undefined, section: "findings", show: "outcome" });
});
