/** The charts of a branch's past as options of the drawing library: pure, so that they can be tested alone. */
import type { SeriesChange, TrendRuns, Trends } from "../api/client";
import type { Ink } from "../marks/palette";
import { duration } from "../app/words";

type Columns = { [K in keyof TrendRuns]: TrendRuns[K][number] };
export type TrendRun = Columns;

/** The runs of an answer, which come as columns. */
export function rowsOf(runs: TrendRuns): TrendRun[] {
  const names = Object.keys(runs) as (keyof TrendRuns)[];
  return runs.number.map((_, i) => Object.fromEntries(names.map((name) => [name, runs[name][i]])) as TrendRun);
}

export interface Chart {
  id: string;
  title: string;
  kind: "line" | "bar";
  series: { name: string; ink: Ink; values: (number | null)[] }[];
  changes: SeriesChange[];
  written: (value: number) => string;
  /** Nothing of it is known in any run. */
  empty: boolean;
}

const seconds = (value: number) => (value > 0 && value < 1 ? `${value.toFixed(2)} s` : duration(value));
const whole = (value: number) => value.toLocaleString("en");
const percent = (value: number) => `${value.toFixed(1)} %`;

/** The charts in the order in which a reader asks: did it hold, does it last, how long does it take. */
export function chartsOf(runs: TrendRun[], changes: Trends["changes"]): Chart[] {
  const of = (pick: (run: TrendRun) => number | null) => runs.map(pick);
  const changed = (...measures: string[]) => changes.filter((c) => measures.includes(c.measure));
  const made: Omit<Chart, "empty">[] = [
    {
      id: "failures", title: "Failing tests", kind: "bar", written: whole, changes: [],
      series: [
        { name: "new", ink: "vermilion", values: of((r) => r.new) },
        { name: "known", ink: "ochre", values: of((r) => r.known) },
        { name: "fixed", ink: "teal", values: of((r) => (r.fixed ? -r.fixed : 0)) },
      ],
    },
    { id: "rate", title: "Tests that passed, of those that ran", kind: "line", written: percent, changes: changed("rate"), series: [{ name: "passed", ink: "teal", values: of((r) => r.rate) }] },
    { id: "seconds", title: "A run takes", kind: "line", written: seconds, changes: changed("seconds"), series: [{ name: "a run takes", ink: "accent", values: of((r) => r.seconds) }] },
    { id: "waiting", title: "Until the first cell starts", kind: "line", written: seconds, changes: changed("waited"), series: [{ name: "until the first cell starts", ink: "graphite", values: of((r) => r.waited) }] },
    { id: "coverage", title: "Lines covered", kind: "line", written: percent, changes: changed("coverage"), series: [{ name: "lines covered", ink: "ochre", values: of((r) => r.coverage) }] },
    {
      id: "tests", title: "Tests", kind: "line", written: whole, changes: changed("tests", "skipped"),
      series: [
        { name: "tests", ink: "teal", values: of((r) => r.tests) },
        { name: "skipped", ink: "faint", values: of((r) => r.skipped) },
      ],
    },
  ]; // prettier-ignore
  return made.map((c) => ({ ...c, empty: c.series.every((s) => s.values.every((v) => v === null || v === 0)) }));
}

/** What the drawing library is asked for. */
export function optionOf(chart: Chart, runs: TrendRun[], inks: Record<Ink, string>): Record<string, unknown> {
  const marks = chart.changes.map((c) => ({ xAxis: `#${c.run}`, name: c.said, lineStyle: { color: c.worse ? inks.vermilion : inks.teal, type: "solid", width: 1.5 } }));
  const line = { lineStyle: { color: inks.quiet, width: 0.6 } };
  return {
    animation: false,
    aria: { enabled: true, label: { description: `${chart.title}, ${runs.length} runs, the newest at the right` } },
    grid: { left: 62, right: 14, top: 12, bottom: 24 },
    textStyle: { fontFamily: "Schibsted Grotesk Variable, sans-serif", color: inks.ink },
    tooltip: {
      trigger: "axis",
      backgroundColor: inks.paper,
      borderColor: inks.faint,
      padding: [6, 9],
      textStyle: { color: inks.ink, fontSize: 12.5 },
      formatter: (points: { dataIndex: number; seriesName: string; value: number | null }[]) => saidAt(chart, runs, points),
    },
    xAxis: { type: "category", data: runs.map((r) => `#${r.number}`), axisLine: line, axisTick: { show: false }, axisLabel: { color: inks.ink, hideOverlap: true } },
    yAxis: { type: "value", minInterval: chart.written === whole ? 1 : undefined, scale: chart.kind === "line", splitNumber: 3, splitLine: line, axisLabel: { color: inks.ink, formatter: (v: number) => (v === 0 ? "0" : chart.written(Math.abs(v))) } },
    series: chart.series.map((s, i) => ({
      type: chart.kind,
      name: s.name,
      data: s.values,
      stack: chart.kind === "bar" ? "all" : undefined,
      barCategoryGap: "12%",
      sampling: chart.kind === "line" && runs.length > 2000 ? "lttb" : undefined,
      large: chart.kind === "bar" && runs.length > 400,
      showSymbol: runs.length < 3,
      connectNulls: false,
      lineStyle: { width: 1.5, color: inks[s.ink] },
      itemStyle: { color: inks[s.ink] },
      markLine: i === 0 && marks.length ? { symbol: "none", silent: true, label: { show: false }, data: marks } : undefined,
    })),
  };
}

const safe = (text: string) => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);

/** The words of a point: its run, what it says, and a change that begins there. All text of a commit is escaped. */
export function saidAt(chart: Chart, runs: TrendRun[], points: { dataIndex: number; seriesName: string; value: number | null }[]): string {
  const run = runs[points[0]?.dataIndex ?? -1];
  if (!run) return "";
  const change = chart.changes.find((c) => c.run === run.number);
  const values = points.map((p) => `${p.seriesName}: ${p.value === null ? "not known" : chart.written(Math.abs(p.value))}`);
  return [`<b>#${run.number}</b> ${safe(run.title.slice(0, 70))}`, ...values.map(safe), ...(change ? [safe(change.said)] : [])].join("<br>");
}

/** The runs from one number to another, and the changes that came with them. */
export function within(runs: TrendRun[], changes: SeriesChange[], from: number | undefined, to: number | undefined) {
  const inside = (run: number) => run >= (from ?? 0) && run <= (to ?? Infinity);
  return { runs: runs.filter((r) => inside(r.number)), changes: changes.filter((c) => inside(c.run)) };
}
