import { expect, test } from "vitest";
import type { Rule } from "../api/client";
import { saysOf } from "./MustHold";

const rule = (more: Partial<Rule>): Rule => ({
  name: "r", measure: "tests.new", sign: "at-most", level: "block", line: 3, met: true, reason: "", value: "0", limit: "0", against_baseline: false, built_in: null, best_of: 1, ...more,
}); // prettier-ignore

test.each([
  [{ value: "18", met: false }, "18 found, none allowed"],
  [{}, "none found, none allowed"],
  [{ value: "3", limit: "5" }, "3 found, at most 5"],
  [{ measure: "coverage.line", sign: "at-least", value: "84.1 %", limit: "80.0 %" }, "84.1 %, at least 80.0 %"],
  [{ measure: "coverage.line", sign: "at-least", value: "84.1 %", limit: "84.4 %", against_baseline: true }, "84.1 %, at least 84.4 % (the baseline's)"],
  [{ measure: "coverage.line", sign: "at-least", value: "84.1 %", limit: "84.4 %", against_baseline: true, best_of: 20 }, "84.1 %, at least 84.4 % (the best of the last 20)"],
  [{ measure: "coverage.line", sign: "at-least", value: null, limit: "80.0 %", reason: "no coverage was reported", met: false }, "not measured, at least 80.0 %; no coverage was reported"],
  [{ measure: "coverage.changed", value: null, limit: null, reason: "nothing that coverage can tell of was changed" }, "nothing to measure; nothing that coverage can tell of was changed"],
  [{ built_in: "steps", measure: "", value: null, limit: null }, "yes"],
  [{ built_in: "void", measure: "", value: "0", limit: "0", reason: "4 cells gave none, for the reasons named here" }, "yes, but 4 cells gave none, for the reasons named here"],
  [{ built_in: "steps", measure: "", value: null, limit: null, met: false, reason: "lint ended with 1 in unit" }, "no; lint ended with 1 in unit"],
  [{ built_in: "vanished", measure: "tests.vanished", value: "20", met: false }, "20 found, none allowed"],
])("a rule is said as a sentence: %j", (more, said) => {
  expect(saysOf(rule(more as Partial<Rule>))).toBe(said);
});
