import { expect, test } from "vitest";
import type { SeriesChange, TrendRuns } from "../api/client";
import { palettes } from "../marks/palette";
import { chartsOf, optionOf, rowsOf, saidAt, within, type TrendRun } from "./charts";

const run = (number: number, more: Partial<TrendRun> = {}) =>
  ({ number, title: `commit ${number}`, new: 0, known: 0, fixed: 0, tests: 10, skipped: 0, coverage: null, rate: 100, seconds: 2, waited: null, ...more }) as TrendRun;
const change = { measure: "seconds", said: "A run takes 4.0 s (+100 %) since #3, before it 2.0 s", run: 3, worse: true } as SeriesChange;
const runs = [run(1), run(2, { new: 2 }), run(3, { fixed: 2, seconds: 4 })];
const charts = chartsOf(runs, [change]);

test("what is known of no run is empty, and said to be", () => {
  expect(charts.filter((c) => c.empty).map((c) => c.id)).toEqual(["waiting", "coverage"]);
});

test("fixed tests stand below the line, new ones above", () => {
  const failures = charts[0];
  expect(failures?.series.map((s) => s.values)).toEqual([[0, 2, 0], [0, 0, 0], [0, 0, -2]]);
});

test("a change is marked at its run and said there, and a commit's words are no markup", () => {
  const chart = charts.find((c) => c.id === "seconds");
  if (!chart) throw new Error("no chart of durations");
  const option = optionOf(chart, runs, palettes.light) as { series: { markLine?: { data: { xAxis: string }[] } }[] };
  expect(option.series[0]?.markLine?.data.map((d) => d.xAxis)).toEqual(["#3"]);
  expect(saidAt(chart, runs, [{ dataIndex: 2, seriesName: "a run takes", value: 4 }])).toContain("since #3");
  const hostile = [run(1, { title: "<img src=x onerror=alert(1)>" })];
  expect(saidAt(chart, hostile, [{ dataIndex: 0, seriesName: "a run takes", value: null }])).toBe("<b>#1</b> &#60;img src=x onerror=alert(1)&#62;<br>a run takes: not known");
  expect(saidAt(chart, [], [])).toBe("");
});

test("columns become runs, and a range of them is kept with the changes that lie in it", () => {
  expect(rowsOf({ number: [4, 5], title: ["a", "b"], new: [0, 2] } as unknown as TrendRuns)).toEqual([
    { number: 4, title: "a", new: 0 },
    { number: 5, title: "b", new: 2 },
  ]);
  expect(within(runs, [change], 2, 3).runs.map((r) => r.number)).toEqual([2, 3]);
  expect(within(runs, [change], undefined, 2)).toEqual({ runs: runs.slice(0, 2), changes: [] });
  expect(within(runs, [change], undefined, undefined)).toEqual({ runs, changes: [change] });
});
