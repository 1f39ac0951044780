/** The shapes of all status marks: one geometry for SVG and canvas. Shape carries the meaning, colour repeats it. */
import type { Ink } from "./palette";

export type Mark =
  | "passed"
  | "new"
  | "known"
  | "fixed"
  | "flaky"
  | "first"
  | "void"
  | "quarantined"
  | "skipped"
  | "not-selected"
  | "running"
  | "waiting"
  | "stopped"
  | "came-back"
  | "absent";

export interface Piece {
  d: string;
  fill?: Ink;
  stroke?: Ink;
  width?: number;
  dash?: number[];
}

export const markNames: Record<Mark, string> = {
  passed: "passed",
  new: "failed, new",
  known: "failed, known",
  fixed: "fixed",
  flaky: "flaky",
  first: "failed, first result here",
  void: "void: no result that can be trusted",
  quarantined: "failed, quarantined",
  skipped: "skipped",
  "not-selected": "not selected",
  running: "running",
  waiting: "waiting",
  stopped: "stopped",
  "came-back": "failed, came back",
  absent: "no such cell",
};

const letters: Record<string, Mark> = {
  p: "passed", n: "new", k: "known", x: "fixed", y: "flaky", f: "first", v: "void", q: "quarantined", s: "skipped",
  "-": "not-selected", c: "came-back", r: "running", w: "waiting", o: "stopped", " ": "absent",
}; // prettier-ignore

export function markOfLetter(letter: string): Mark {
  return letters[letter.toLowerCase()] ?? "absent";
}

/** The mark for a name that the API gives to a cell or finding. */
export function markNamed(name: string): Mark {
  return name === "failed" ? "new" : name in markNames ? (name as Mark) : "waiting";
}

const rect = (x: number, y: number, w: number, h: number) => `M${x} ${y}h${w}v${h}h${-w}z`;

/** Pieces of a mark in a box of `w` × `h`, drawn in order. `done` is the predicted progress of a running one. */
export function shapeOf(mark: Mark, w: number, h: number, done = 0.5): Piece[] {
  const whole = rect(0, 0, w, h);
  const inner = rect(0.5, 0.5, w - 1, h - 1);
  const cut = Math.min(w, h) * 0.5;
  switch (mark) {
    case "passed":
      return [{ d: whole, fill: "quiet" }];
    case "new":
      return [{ d: `M0 0H${w - cut}L${w} ${cut}V${h}H0z`, fill: "vermilion" }];
    case "first":
      return [{ d: `M${cut} 0H${w}V${h}H0V${cut}z`, fill: "vermilion" }];
    case "came-back": {
      const bar = Math.max(1, h * 0.18);
      return [
        { d: `M0 0H${w - cut}L${w} ${cut}V${h}H0z`, fill: "vermilion" },
        { d: rect(0, h - bar - 1, w, bar), fill: "paper" },
      ];
    }
    case "known":
      return [
        { d: inner, stroke: "vermilion", width: 1 },
        { d: `M0.5 ${h - 0.5}L${w - 0.5} 0.5`, stroke: "vermilion", width: 1 },
      ];
    case "fixed":
      return [
        { d: whole, fill: "quiet" },
        { d: rect(0, 0, Math.max(2, w * 0.28), h), fill: "teal" },
      ];
    case "flaky":
      return [
        { d: `M0 0H${w}L0 ${h}z`, fill: "quiet" },
        { d: `M${w} 0V${h}H0z`, fill: "ochre" },
      ];
    case "void": {
      const gap = Math.max(1, h * 0.22);
      const half = (h - gap) / 2;
      return [
        { d: rect(0, 0, w, half), fill: "graphite" },
        { d: rect(0, half + gap, w, half), fill: "graphite" },
      ];
    }
    case "quarantined": {
      const r = Math.min(w, h) * 0.24;
      return [
        { d: whole, fill: "quiet" },
        { d: `M${w / 2 - r} ${h / 2}a${r} ${r} 0 1 0 ${2 * r} 0a${r} ${r} 0 1 0 ${-2 * r} 0z`, fill: "vermilion" },
      ];
    }
    case "skipped":
      return [{ d: inner, stroke: "faint", width: 1, dash: [1, 1.5] }];
    case "not-selected":
      return [{ d: rect(w * 0.25 - 0.5, h / 2 - 0.5, 1, 1) + rect(w * 0.75 - 0.5, h / 2 - 0.5, 1, 1), fill: "faint" }];
    case "running":
      return [
        { d: inner, stroke: "accent", width: 1 },
        { d: rect(0, 0, Math.max(1, w * done), h), fill: "accent" },
      ];
    case "waiting":
      return [{ d: rect(0, h - 1, w, 1), fill: "faint" }];
    case "stopped":
      return [
        { d: inner, stroke: "faint", width: 1 },
        { d: rect(w * 0.3, h / 2 - 0.5, w * 0.4, 1), fill: "faint" },
      ];
    case "absent":
      return [];
  }
}

export type Verdict = "clear" | "held" | "undecided" | "exempt" | "none";

export const verdictNames: Record<Verdict, string> = { clear: "clear", held: "held", undecided: "undecided", exempt: "exempt", none: "no verdict" };

/** The foot-mark of a verdict in a box of `w` × `h`. */
export function verdictShape(verdict: Verdict, w: number, h: number): Piece[] {
  const thick = Math.max(1.5, Math.min(h * 0.4, w * 0.18));
  switch (verdict) {
    case "clear":
      return [{ d: rect(w * 0.2, (h - thick) / 2, w * 0.6, thick), fill: "teal" }];
    case "held":
      return [{ d: `M0 0H${thick}V${h - thick}H${w - thick}V0H${w}V${h}H0z`, fill: "vermilion" }];
    case "undecided":
      return [{ d: `M0 ${h / 2}H${w}`, stroke: "faint", width: 1.5, dash: [1.5, 2] }];
    case "none":
      return [];
    case "exempt":
      return [{ d: rect(w * 0.2 + 0.5, (h - thick) / 2 + 0.5, w * 0.6 - 1, thick), stroke: "teal", width: 1 }];
  }
}
