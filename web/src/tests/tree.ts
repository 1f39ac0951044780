/** What the Tests section lays out: headings that fold, columns of cells, cells chosen by value. Pure. */
import type { Cell, TestHeading } from "../api/client";

export interface Layout {
  /** Lines that are on screen when everything is scrolled through. */
  lines: number;
  /** A line is a heading, or the test at an offset of the server's list. */
  at: (line: number) => { heading: number } | { test: number };
}

/** The tree's lines where some headings are folded. */
export function layout(headings: TestHeading[], folded: (heading: number) => boolean): Layout {
  const starts: number[] = [];
  const tests: number[] = [];
  let lines = 0;
  let before = 0;
  headings.forEach((h, i) => {
    starts.push(lines);
    tests.push(before);
    lines += 1 + (folded(i) ? 0 : h.tests);
    before += h.tests;
  });
  return {
    lines,
    at: (line) => {
      let low = 0;
      let high = starts.length - 1;
      while (low < high) {
        const middle = (low + high + 1) >> 1;
        if ((starts[middle] ?? 0) <= line) low = middle;
        else high = middle - 1;
      }
      const inside = line - (starts[low] ?? 0);
      return inside === 0 ? { heading: low } : { test: (tests[low] ?? 0) + inside - 1 };
    },
  };
}

export const headingText = (h: TestHeading) => [h.job, h.suite, h.klass].filter((word, i, all) => word && word !== all[i - 1]).join(" › ");

/** The heading over the test at an offset of the server's list. */
export function headingAt(headings: TestHeading[], offset: number): string {
  let before = 0;
  for (const heading of headings) {
    before += heading.tests;
    if (offset < before) return headingText(heading);
  }
  return "";
}

export interface Span {
  text: string;
  cells: number;
}

/** Rows of column headings: the job where there are several, then each dimension, equal neighbours joined. */
export function columnHeads(cells: { job: string; values: Record<string, string> }[]): { label: string; spans: Span[] }[] {
  const dimensions = [...new Set(cells.flatMap((c) => Object.keys(c.values)))];
  const jobs = new Set(cells.map((c) => c.job)).size;
  const rows: [string, (c: (typeof cells)[number]) => string][] = dimensions.map((d) => [d, (c) => c.values[d] ?? ""]);
  if (jobs > 1) rows.unshift(["job", (c) => c.job]);
  return rows.map(([label, take], depth) => {
    const spans: Span[] = [];
    let last = "";
    for (const cell of cells) {
      const path = JSON.stringify(rows.slice(0, depth + 1).map(([, t]) => t(cell)));
      const open = spans.at(-1);
      if (open && path === last) open.cells += 1;
      else spans.push({ text: take(cell), cells: 1 });
      last = path;
    }
    return { label, spans };
  });
}

export interface Choice {
  dimension: string;
  values: { value: string; chosen: boolean }[];
}

const name = (c: Cell) => `${c.job}/${c.key}`;

/** Dimensions with a few values, and which values the chosen cells are narrowed to. */
export function choices(cells: Cell[], chosen: string[]): Choice[] {
  const narrowed = cells.filter((c) => chosen.includes(name(c)));
  return [...new Set(cells.flatMap((c) => Object.keys(c.values)))]
    .map((dimension) => {
      const take = (some: Cell[]) => [...new Set(some.map((c) => c.values[dimension]).filter((v) => v !== undefined))];
      const every = take(cells);
      const left = take(narrowed);
      return { dimension, values: every.map((value) => ({ value, chosen: left.length < every.length && left.includes(value) })) };
    })
    .filter((c) => c.values.length > 1 && c.values.length <= 12);
}

/** The cells that remain when a value is switched on or off; none stands for all. */
export function toggled(cells: Cell[], chosen: string[], dimension: string, value: string): string[] {
  const on = new Map(choices(cells, chosen).map((c) => [c.dimension, new Set(c.values.filter((v) => v.chosen).map((v) => v.value))]));
  const mine = on.get(dimension) ?? new Set();
  if (!mine.delete(value)) mine.add(value);
  const fits = (c: Cell) => [...on].every(([d, values]) => values.size === 0 || values.has(c.values[d] ?? ""));
  const left = cells.filter(fits).map(name);
  return left.length === cells.length ? [] : left;
}
