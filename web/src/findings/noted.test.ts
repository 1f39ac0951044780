import { expect, test } from "vitest";
import type { Rule, TroubledCells } from "../api/client";
import { followed } from "./Findings";
import { headOf } from "./PlanProblems";
import { linked } from "./Noted";

test.each([
  ["see #12 and #LOCK-7.", "https://tracker.example/{id}", ["see ", "#12→https://tracker.example/12", " and ", "#LOCK-7→https://tracker.example/LOCK-7", "."]],
  ["see #12", "", ["see #12"]],
  ["see #12", "javascript:alert({id})", ["see #12"]],
  ["#1", "https://t.example/?q={id}", ["#1→https://t.example/?q=1"]],
])("numbers of a note lead to the tracker: %s", (text, pattern, said) => {
  expect(linked(text, pattern).map((p) => p.text + (p.to ? `→${p.to}` : ""))).toEqual(said);
});

test("a rule that could not be measured follows from the cells without a result", () => {
  const cell = (job: string, key: string, state = "void") => ({ state, cells: [{ job, key }] }) as TroubledCells;
  const rule = (value: string | null) => ({ value }) as Rule;
  expect(followed(rule(null), [cell("unit", "lua=5.1")])).toBe("may follow from unit lua=5.1");
  expect(followed(rule(null), [cell("unit", "lua=5.1"), cell("unit", "lua=5.2"), cell("lint", "")])).toBe("may follow from unit lua=5.1, unit lua=5.2 and 1 more cell");
  expect(followed(rule("66.0 %"), [cell("unit", "lua=5.1")])).toBe("");
  expect(followed(rule(null), [])).toBe("");
  expect(followed(rule(null), [cell("lint", "", "failed")])).toBe(""); // its step failed: what it measured is there
});

test.each([
  [[{ level: "warning", line: 24 }], "Plan: 1 warning, line 24"],
  [[{ level: "error", line: 3 }, { level: "warning", line: 0 }], "Plan: 1 error and 1 warning, line 3"],
  [[1, 2, 3, 4, 5].map((line) => ({ level: "warning", line })), "Plan: 5 warnings, lines 1, 2, 3, 4 …"],
])("problems of the plan take one line", (problems, said) => {
  expect(headOf(problems)).toBe(said);
});
