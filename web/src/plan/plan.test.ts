import { expect, test } from "vitest";
import { contextAt, kindOf, offersAt, type Known, type Word } from "./context";
import { changesOf, withEdits } from "./edits";

const word = (key: string, of: string): Word => ({ key, of, takes: of, doc: `about ${key}`, example: "", needed: false });
const known: Known = {
  tables: {
    plan: [word("version", "whole"), word("jobs", "named:job"), word("events", "table:events"), word("gate", "table:gate")],
    events: [word("push", "table:push"), word("schedule", "tables:schedule")],
    push: [word("branches", "texts")],
    schedule: [word("zone", "zone"), word("every", "one:hour|day")],
    job: [word("title", "text"), word("vary", "vary"), word("after", "after"), word("steps", "tables:step"), word("stop-early", "flag"), word("runtime", "texts")],
    step: [word("name", "text"), word("command", "command"), word("collect", "tables:collect")],
    collect: [word("tests", "globs"), word("kind", "name")],
    gate: [word("rules", "tables:rule")],
    rule: [word("measure", "text"), word("jobs", "texts")],
  },
  measures: { "tests.new": "newly failing" },
  zones: ["Europe/Oslo", "UTC"],
  offers: ["lua 5.4", "lua 5.1", "python 3.12", "label linux"],
  jobs: ["unit", "slow"],
  branches: ["main"],
  pieces: [],
}; // prettier-ignore

const labels = (text: string) => offersAt(text.replace("|", ""), text.indexOf("|"), known).map((o) => o.label);

test.each([
  ["|", ["version", "jobs", "events", "gate"]],
  ["version = 1\n[jobs.unit]\n|", ["title", "vary", "after", "steps", "stop-early", "runtime"]],
  ['[jobs.unit]\ntitle = "a = b # c"\n|', ["title", "vary", "after", "steps", "stop-early", "runtime"]],
  ["[[jobs.unit.steps]]\nname = 'x'\n|", ["name", "command", "collect"]],
  ["[[jobs.unit.steps]]\ncollect = { |", ["tests", "kind"]],
  ['[[jobs.unit.steps]]\ncollect = { tests = ["a", "b"], |', ["tests", "kind"]],
  ['[[jobs.unit.steps]]\ncollect = { tests = ["a", |', []],
  ["[events]\npush = { |", ["branches"]],
  ['[events]\npush = { branches = ["|', ["main"]],
  ["[[events.schedule]]\nevery = |", ["hour", "day"]],
  ['[[events.schedule]]\nzone = "|', ["Europe/Oslo", "UTC"]],
  ['[jobs.unit]\nafter = [\n  "|', ["unit", "slow"]],
  ["[jobs.unit]\nstop-early = |", ["true", "false"]],
  ['[jobs.unit]\nvary = { lua = ["|', ["5.1", "5.4"]],
  ['[jobs.unit]\nruntime = ["|', ["lua", "python"]],
  ['[[gate.rules]]\nmeasure = "|', ["tests.new"]],
  ['[[gate.rules]]\njobs = ["|', ["unit", "slow"]],
  ["[jobs.unit] # [x]\n# events.push\n|", ["title", "vary", "after", "steps", "stop-early", "runtime"]],
])("at %j these are offered", (text, expected) => expect(labels(text)).toEqual(expected));

test("tables are known by their headers, and what has free names is not", () => {
  expect([["jobs", "unit"], ["jobs"], ["jobs", "unit", "vary"], ["nothing"], []].map((p) => kindOf(p, known.tables))).toEqual([
    "job", undefined, undefined, undefined, "plan",
  ]); // prettier-ignore
  expect(contextAt("[jobs.unit]\nvary = { lua = [", 28, known.tables)).toMatchObject({ key: "lua", kind: undefined });
});

test("edits are applied from behind, and places outside are drawn in", () => {
  const edit = (line: number, column: number, end_line: number, end_column: number, text: string) => ({ line, column, end_line, end_column, text });
  expect(withEdits("a = 1\nb = 2\n", [edit(1, 1, 1, 2, "x"), edit(2, 5, 2, 6, '"2"')])).toBe('x = 1\nb = "2"\n');
  expect(withEdits("a\nb\nc", [edit(2, 1, 3, 1, "")])).toBe("a\nc");
  expect(withEdits("a\nb", [edit(2, 1, 3, 1, "")])).toBe("a\n");
  expect(withEdits("a", [edit(9, 9, 9, 9, "!")])).toBe("a!");
});

test.each([
  ["abc", "abc"],
  ["abc", "axc"],
  ["", "a\nb"],
  ["aaaa", "aa"],
  ["one\ntwo", "one\nthree\ntwo"],
])("the change from %j to %j gives it back", (before, after) => {
  const c = changesOf(before, after);
  expect(before.slice(0, c.from) + c.insert + before.slice(c.to)).toBe(after);
});
