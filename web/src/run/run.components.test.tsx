// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import { expect, test } from "vitest";
import type { Rule } from "../api/client";
import { cell, run, shown, where } from "../testing";
import type { StripData } from "../strip/useStrip";
import { Accepting } from "./Accepting";
import { Actions } from "./Actions";
import { Approvals } from "./Approvals";
import { Beside } from "./Beside";
import { measuredIn } from "./Header";
import { Legend } from "./Legend";
import { MustHold } from "./MustHold";

const NOW = Date.parse("2026-11-27T09:00:00Z");
const PATH = "/api/v1/projects/lockstep/runs/2";
const rule = (name: string, more: Partial<Rule>): Rule => ({ name, measure: "", sign: "at-most", level: "block", line: 0, met: true, reason: "", value: null, limit: null, against_baseline: false, built_in: null, best_of: 1, ...more });

test.each([
  ["coverage.line", "section=coverage"],
  ["tests.vanished", "section=tests"],
  ["plan.loosened", "section=change"],
  ["", "section=evidence"],
])("a rule about %s leads to %s", async (measure, to) => {
  const { user } = shown(<MustHold run={run({ judged: [rule("the rule", { measure, met: false, value: "1", limit: "0" })] })} />);
  await user.click(screen.getByRole("link", { name: "the rule" }));
  expect(where()).toContain(to);
});

test("rules that only warn, and those that are off, say so; without rules the reason is said", () => {
  shown(<MustHold run={run({ judged: [rule("a", { level: "warn", met: false, built_in: "x" }), rule("b", { level: "off", built_in: "y" })] })} />);
  const [a, b] = screen.getAllByRole("listitem");
  expect(a?.textContent).toContain("a: no; it only warns");
  expect(b?.textContent).toContain("it is switched off");
});

test.each([
  [[{}, {}], ""],
  [[{ total: 32 }, { state: "void" }, { state: "failed", total: 0 }], " in 1 of 3 cells"],
  [[{ total: 32 }, { state: "skipped", selected: false }, { gated: true, state: "waiting" }], ""],
] as const)("what share passed says in how many cells, where that is not all: %j", (cells, said) => {
  expect(measuredIn(cells.map((more) => cell("unit", {}, more)))).toBe(said);
});

const covered = rule("mostly covered", { line: 9, measure: "coverage.line", sign: "at-least", met: false, value: "50.0 %", limit: "70.0 %" });
const heldRun = (more: Partial<Rule>) => run({ judged: [{ ...covered, ...more }], run: { ...run().run, verdict: "held", ended_at: "2026-11-27T08:00:00Z" } });

test("a rule of the plan that holds a run is waived with a reason, here or everywhere", async () => {
  const { user, written } = shown(<MustHold run={heldRun({})} />, { answers: { [`POST ${PATH}/waivers`]: {} } });
  await user.click(screen.getByRole("button", { name: "Waive it …" }));
  const form = within(await screen.findByRole("form", { name: "Waive mostly covered" }));
  expect(form.getByRole<HTMLButtonElement>("button", { name: "Waive it" }).disabled).toBe(true);
  await user.type(form.getByLabelText("It need not hold, because"), "it moves");
  await user.click(form.getByLabelText("on every branch and pull request"));
  await user.click(form.getByRole("button", { name: "Waive it" }));
  expect((await written())[0]?.body).toMatchObject({ rule: "mostly covered", reason: "it moves", everywhere: true });
});

test.each([
  [{ built_in: "new-failures" }],
  [{ level: "warn" }],
  [{ value: null, reason: "no coverage was reported" }],
  [{ waived: { by: "Ada", until: "2026-12-05T00:00:00Z", reason: "it moves" } }],
])("what cannot be waived, or is, offers no waiver: %j", (more) => {
  shown(<MustHold run={heldRun(more)} />);
  expect(screen.queryByRole("button", { name: "Waive it …" })).toBeNull();
  if ("waived" in more) expect(screen.getByRole("listitem").textContent).toContain("waived by Ada until 5 Dec 2026: “it moves”");
});

test("what waits for judgement says for what", () => {
  shown(<MustHold run={run({ run: { ...run().run, verdict: "undecided", ended_at: null } })} />);
  expect(screen.getByTestId("gate").textContent).toContain("It is judged when the last cell has ended.");
});

test("less than before is accepted only with a reason, and the reason is sent", async () => {
  const { user, written } = shown(<Accepting run={run({ acceptable: { loosened: ["job lint is gone"], tests: [3, 4] } })} now={NOW} />, { answers: { [`POST ${PATH}/acceptances`]: { accepted: 3 } } });
  const button = screen.getByRole("button", { name: "Accept" });
  expect((button as HTMLButtonElement).disabled).toBe(true);
  expect(screen.getByRole("region").textContent).toContain("2 tests vanished or newly skipped");
  await user.type(screen.getByLabelText("It may be so, because"), "lint moved");
  await user.click(button);
  expect(await written()).toEqual([{ method: "POST", path: `${PATH}/acceptances`, body: { reason: "lint moved", loosened: ["job lint is gone"], tests: [3, 4] } }]);
});

test.each([
  ["Approve", true],
  ["Refuse", false],
])("%s gives the word", async (name, given) => {
  const waiting = { job: "publish", state: "waiting", by: "", reason: "", about: "v1 at cf81ee6, which made no artifact", until: "2026-11-28T09:00:00Z", at: null };
  const { user, written } = shown(<Approvals run={run({ approvals: [waiting] })} now={NOW} />, { answers: { [`POST ${PATH}/approvals/publish`]: null } });
  expect(document.body.textContent).toContain("an approval of v1 at cf81ee6, which made no artifact");
  await user.type(screen.getByLabelText("Why, for publish"), "seen on the trial");
  await user.click(screen.getByRole("button", { name }));
  expect((await written())[0]?.body).toEqual({ given, reason: "seen on the trial" });
});

test("words that were said stay listed, with who said them", () => {
  const said = [{ job: "publish", state: "given", by: "Ada", reason: "seen on the trial", about: "", until: "2026-11-28T09:00:00Z", at: "2026-11-27T08:00:00Z" }, { job: "sign", state: "late", by: "", reason: "", about: "", until: "2026-11-26T09:00:00Z", at: null }];
  shown(<Approvals run={run({ approvals: said })} now={NOW} />);
  expect(document.body.textContent).toContain("publish: approval given by Ada, 1 h ago: “seen on the trial”");
  expect(document.body.textContent).toContain("sign: approval did not come in time");
});

const cells = [cell("unit", { lua: "5.1" }, { state: "failed", mark: "new", failed: 1 }), cell("unit", { lua: "5.4" }), cell("unit", { lua: "5.3" }, { selected: false, state: "skipped" })];

test("run again offers what can be run: all, what did not pass, the chosen cells", async () => {
  const { user, written } = shown(<Actions run={run({ cells })} />, { at: "/p/lockstep/runs/2?cell=unit%2Flua%3D5.4", answers: { [`POST ${PATH}/again`]: { cells: 1 } } });
  expect(screen.queryByRole("button", { name: "Stop" })).toBeNull();
  await user.click(screen.getByRole("button", { name: "Run again" }));
  expect((await screen.findByRole("menuitem", { name: /Only what did not pass/ })).textContent).toBe("Only what did not pass (1 cell)");
  await user.click(screen.getByRole("menuitem", { name: "The chosen cells (1)" }));
  expect((await written())[0]?.body).toEqual({ which: "chosen", cells: "job=unit,lua=5.4" });
});

test("an open run can be stopped, and a refusal is said", async () => {
  const { user } = shown(<Actions run={run({ cells: [cell("unit", {}, { state: "running", mark: "running" })] })} />, { answers: { [`POST ${PATH}/stop`]: 403 } });
  await user.click(screen.getByRole("button", { name: "Stop" }));
  expect((await screen.findByRole("alert")).textContent).toBe("refused with 403");
});

const strip = { branch: "main", branches: ["main", "release-1"], columns: [1, 2, 3].map((number) => ({ run: { number, title: `commit ${number}`, commit: "", author: "Ada", word: "clear" } })) } as unknown as StripData;

test("a run is compared with another of the strip, or with any by its number", async () => {
  const chosen: number[] = [];
  const answers = {
    "GET /api/v1/projects/lockstep/strip": { ...strip, columns: [{ run: { number: 30 } }, { run: { number: 31 } }] },
    "GET /api/v1/projects/lockstep/runs": { runs: [{ number: 22, title: "Dredge the channel", word: "held", context: "push topic" }, { number: 2, title: "of the strip", word: "held" }], fitting: 2, more: false }, // prettier-ignore
  };
  const { user } = shown(<Beside project="lockstep" strip={strip} selected={3} base={1} onBase={(b) => chosen.push(b)} />, { answers });
  await user.click(screen.getByRole("button", { name: "Compare with…" }));
  expect((await screen.findAllByRole("menuitem")).map((m) => m.textContent.replace(/^clear/, ""))).toEqual(["#2 commit 2", "#1 commit 1"]);
  await user.type(screen.getByLabelText("Compare with"), "commit 1");
  await user.click(screen.getByRole("menuitem"));
  await user.click(screen.getByRole("button", { name: "Compare with…" }));
  await user.type(screen.getByLabelText("Compare with"), "#40");
  await user.click(screen.getByRole("menuitem", { name: "Run #40, of another strip" }));
  await user.click(screen.getByRole("button", { name: "Compare with…" }));
  await user.type(screen.getByLabelText("Compare with"), "rele");
  await user.click(await screen.findByRole("menuitem", { name: "The newest run of release-1" }));
  await expect.poll(() => chosen).toEqual([1, 40, 31]);
  await user.click(screen.getByRole("button", { name: "Compare with…" }));
  await user.type(screen.getByLabelText("Compare with"), "Dredge");
  await user.click(await screen.findByRole("menuitem", { name: /#22 Dredge the channel/ }));
  expect(chosen).toEqual([1, 40, 31, 22]);
});

test.each([
  [500, "refused with 500"],
  [{ ...strip, columns: [] }, "release-1 has no run yet."],
])("what cannot be compared with says so", async (answer, said) => {
  const answers = { "GET /api/v1/projects/lockstep/strip": { ...strip, columns: [] }, "GET /api/v1/projects/lockstep/runs": { runs: [], fitting: 0, more: false } };
  const { user } = shown(<Beside project="lockstep" strip={strip} selected={3} base={1} onBase={() => undefined} />, { answers });
  await user.click(screen.getByRole("button", { name: "Compare with…" }));
  await user.type(await screen.findByLabelText("Compare with"), "rele");
  Object.assign(answers, { "GET /api/v1/projects/lockstep/strip": answer });
  await user.click(await screen.findByRole("menuitem", { name: "The newest run of release-1" }));
  expect((await screen.findByRole("alert")).textContent).toBe(said);
});

test("the legend is put away for good", async () => {
  const { user } = shown(<Legend />);
  expect(within(screen.getByRole("note")).getAllByRole("img").length).toBe(5);
  await user.click(screen.getByRole("button", { name: "Put the legend away" }));
  expect(screen.queryByRole("note")).toBeNull();
  expect(localStorage.getItem("myriant-legend-away")).toBe("true");
});
