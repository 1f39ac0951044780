// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import { expect, test, vi } from "vitest";
import { cell, finding, run, shown, where } from "../testing";
import type { Flake, TroubledCells } from "../api/client";
import { Estimate } from "../tests/Estimate";
import { FindingRow } from "./FindingRow";
import { Opened } from "./Opened";
import { CellFinding, OtherRow, RuleFinding } from "./Others";
import { PlanProblems } from "./PlanProblems";
import { TakeIt } from "./TakeIt";

const two = run({ cells: [cell("unit", { lua: "5.1" }, { mark: "new", state: "failed" }), cell("unit", { lua: "5.4" })] });
const ME = { "GET /api/v1/me": { id: 1, name: "Ada", role: "member" }, "GET /api/v1/projects": [] };
const TAKING = "/api/v1/projects/lockstep/runs/2/findings/s1/taking";

const trouble = (more: Partial<TroubledCells>): TroubledCells => ({ state: "void", mark: "void", reason: "", told: null, line: "", cells: [{ job: "unit", key: "lua=5.1" }], of: 1, ...more });

test.each([
  [{ where: "lua=5.1" }, "only where lua=5.1"],
  [{ where: "lua=5.1", where_sure: false }, "so far where lua=5.1"],
  [{ where: "lua=5.1", or_where: "rounding=down" }, "only where lua=5.1 or rounding=down"],
  [{ where: "lua=5.1", control: "unsure" }, "not sure yet"],
  [{ back_since: { number: 1, commit: "c0ffee", at: "2026-11-27T08:00:00Z" } }, "came back"],
  [{ where: "lua=5.1", missed: 2 }, "mostly where lua=5.1 (wrong for 2)"],
  [{ where: null }, "no pattern: 1 of 2 cells"],
  [{ where: null, ran_in: 1 }, "in its one cell"],
  [{ where: "lua=5.1", control: "world" }, "not the change"],
  [{ where: "lua=5.1", control: "change" }, "the change did it"],
  [{ where: "lua=5.1", taken: { by: "Bo", at: "2026-11-27T08:00:00Z", note: "" } }, "Bo has it"],
])("a row says where before it says anything clever: %j", (more, said) => {
  shown(<FindingRow finding={finding(more)} run={two} open={false} current={false} onToggle={() => undefined} />);
  expect(screen.getByRole("button").textContent).toContain(said);
});

test("a row opens by its whole width, and its marks are one for each cell", async () => {
  const toggle = vi.fn();
  const { user } = shown(<FindingRow finding={finding()} run={two} open={false} current={false} onToggle={toggle} />);
  await user.click(screen.getByRole("button"));
  expect(toggle).toHaveBeenCalledOnce();
  expect(screen.getAllByRole("img").map((m) => m.getAttribute("aria-label"))).toEqual(["failed, new", "failed, new", "passed"]);
});

test("a cell that says nothing of a cause is not drawn as passed", () => {
  const failedOtherwise = run({ cells: [cell("unit", { lua: "5.1" }, { mark: "new", state: "failed" }), cell("unit", { lua: "5.4" }, { mark: "new", state: "failed" })] });
  shown(<FindingRow finding={finding({ silent: ["unit/lua=5.4"] })} run={failedOtherwise} open={false} current={false} onToggle={() => undefined} />);
  expect(screen.getAllByRole("img").map((m) => m.getAttribute("aria-label"))).toEqual(["failed, new", "failed, new", "skipped"]);
});

const never = { here_passed: 0, here_failed: 0, baseline_passed: 0, baseline_failed: 0, baseline_absent: false };
test.each([
  ["change", { ...never, here_failed: 3, baseline_passed: 1 }, "The change did it. Repeated here it failed 3 times; on the gate baseline, today, it passed 1 time."],
  ["world", { ...never, here_failed: 2, baseline_failed: 2 }, "Repeated here it failed 2 times; on the gate baseline, today, it failed 2 times."],
  ["chance", { ...never, here_failed: 1, here_passed: 2 }, "Chance, not the change. Repeated here it failed 1 of 3 times."],
  ["unsure", { ...never, here_failed: 2, baseline_absent: true }, "not sure yet. Repeated here it failed 2 times; the gate baseline has no such test."],
  ["unsure", { ...never, baseline_passed: 1 }, "not sure yet. On the gate baseline, today, it passed 1 time."],
])("what was repeated, how often, stands beside what it says: %s", (control, repeated, said) => {
  shown(<Opened finding={finding({ control, repeated })} run={two} />);
  expect(screen.getByText((_, e) => e?.tagName === "P" && e.textContent.includes(said))).toBeTruthy();
});

test.each([
  [[4, 4, 1], "The first 2 are equally likely."],
  [[0, 0], "Nothing tells these commits apart."],
  [[4, 1], ""],
  [[4], ""],
])("commits of one score are told as equals: %j", async (scores, said) => {
  const commits = scores.map((score, i) => ({ commit: `c0ffee${i}`, title: `Dredge ${i}`, author: "Ada Fen", at: null, score, because: [] }));
  const told = { job: "unit", key: "lua=5.1", last_passed: 1, commits, more: 0, machine: [] };
  const shownFinding = finding({});
  shown(<Opened finding={shownFinding} run={two} />, { answers: { ...ME, [`GET /api/v1/projects/lockstep/runs/2/tests/${shownFinding.tests[0]?.test}/changes`]: told } });
  const changes = await screen.findByTestId("changes");
  expect(/equally|apart/.test(changes.textContent)).toBe(said !== "");
  expect(changes.textContent).toContain(said);
});

test.each([
  [{ odd: 0, sure: 0 }, "No sign of chance in 40 results"],
  [{ flaky: true, sure: 0.999, since: 12, only: "lua=5.1" }, "Flaky, only where lua=5.1: 8 of 40 results that bear on it since run #12 failed by chance: 20.0 %, between 10.0 % and 32.0 % (90 %)."],
  [{ sure: 0.713 }, "Perhaps flaky, 71 % sure: 8 of 40 results that bear on it failed by chance"],
  [{ sure: 0.99, only: "runner quay" }, "Fails by chance, but seldom, only on runner quay: 8 of 40"],
  [{ sure: 0.99, flaky: true, only: "from 3 to 5 o'clock (UTC)" }, "Flaky, only from 3 to 5 o'clock (UTC): 8"],
  [{ over: true, sure: 0.99 }, "It was random, and is no more"],
])("an estimate says what it knows and no more: %j", (more, said) => {
  const flake = { test: 1, title: "gauge", job: "unit", rate: 0.2, low: 0.1, high: 0.32, odd: 8, tries: 40, only: "", since: null, over: false, retested: 0, controlled: 0, alone: 0, minutes: 0, flaky: false, proposed: false, quarantine: null, ...more } as Flake; // prettier-ignore
  shown(<Estimate flake={flake} project="lockstep" />);
  expect(document.querySelector("p")?.textContent).toContain(said);
});

test("a void cell of no known kind quotes its log", () => {
  shown(<CellFinding trouble={trouble({ state: "void", mark: "void", reason: "report missing", line: "sh: 1: askharbour: not found" })} />);
  expect(screen.getByText("sh: 1: askharbour: not found")).toBeTruthy();
});

test("a cause is taken with a note", async () => {
  const done = vi.fn();
  const { user, written } = shown(<TakeIt finding={finding()} run={two} onDone={done} />, { answers: { ...ME, [`PUT ${TAKING}`]: null } });
  await user.type(await screen.findByLabelText("Note"), "see #12");
  await user.click(screen.getByRole("button", { name: "Take it" }));
  await vi.waitFor(() => expect(done).toHaveBeenCalled(), { timeout: 60_000 });
  expect(await written()).toEqual([{ method: "PUT", path: TAKING, body: { title: "gauge › rises", note: "see #12" } }]);
});

test("what another has taken cannot be written over, only given back for them", async () => {
  const taken = finding({ taken: { by: "Bo", at: "2026-11-27T08:00:00Z", note: "mine" } });
  const { user, written } = shown(<TakeIt finding={taken} run={two} onDone={() => undefined} />, { answers: { ...ME, "DELETE /api/v1/projects/lockstep/findings/s1/taking": 404 } });
  expect(screen.queryByLabelText("Note")).toBeNull();
  await user.click(await screen.findByRole("button", { name: "Give it back for Bo" }));
  expect((await screen.findByRole("alert")).textContent).toBe("refused with 404");
  expect((await written())[0]?.method).toBe("DELETE");
});

test.each([
  [{ state: "void", mark: "void", reason: "report missing" }, "unit lua=5.1report missingno result"],
  [{ state: "waiting", mark: "waiting", reason: "no runner has lua 5.5" }, "unit lua=5.1no runner has lua 5.5cannot run"],
  [{ state: "failed", mark: "new", reason: "step lint failed", of: 8 }, "unit lua=5.1step lint failedstep failed in 1 of 8"],
  [{ state: "failed", mark: "new", reason: "step lint failed", of: 2, cells: ["5.1", "5.2"] }, "unit, all 2 cellsstep lint failedstep failed in 2 of 2"],
  [{ state: "void", mark: "void", reason: "lost", of: 8, cells: ["5.1", "5.2", "5.3", "5.4"] }, "unit lua=5.1, lua=5.2, lua=5.3 and 1 more celllostno result in 4 of 8"],
] as const)("what went wrong beside tests is said once for all its cells and leads to their evidence: %j", async (more, said) => {
  const cells = ("cells" in more ? more.cells : ["5.1"]).map((lua) => ({ job: "unit", key: `lua=${lua}` }));
  const { user } = shown(<CellFinding trouble={trouble({ ...more, cells })} />);
  expect(screen.getByRole("link").textContent).toContain(said);
  await user.click(screen.getByRole("link"));
  expect(where()).toBe(`/p/lockstep/runs/2?section=evidence${cells.map((c) => `&cell=unit%2F${c.key.replace("=", "%3D")}`).join("")}`);
});

test("a rule that only follows from a cell says so instead of holding by itself", () => {
  const rule = { name: "coverage", measure: "coverage.line", sign: "at-least", level: "block", line: 3, met: false, reason: "no coverage was reported", value: null, limit: null, against_baseline: false, built_in: null, best_of: 1 };
  shown(<RuleFinding rule={rule} follows="follows from unit lua=5.1" />);
  expect(screen.getByRole("listitem").textContent).toContain("not measured; no coverage was reportedfollows from unit lua=5.1");
});

test("what is odd beside failures opens to its lines, and lines of tests lead there", async () => {
  const other = { kind: "slower", title: "1 test slower", say: "Beyond noise.", lines: [{ text: "rises: 1 s → 2 s", path: "", line: 0, test: 7 }], more: 2 };
  const { user } = shown(<OtherRow other={other} run={two} />);
  await user.click(screen.getByRole("button"));
  expect(screen.getByRole("link").getAttribute("href")).toBe("/p/lockstep/tests/7");
  expect(document.body.textContent).toContain("and 2 more");
});

test("warnings of the plan take one line until they are opened; errors stand open", async () => {
  const problem = { level: "warning", file: "myriant.toml", line: 24, column: 3, text: "x", message: "it does nothing", mend: "take it out", edits: [] };
  const { user } = shown(<PlanProblems problems={[problem]} project="lockstep" />);
  expect(screen.queryByText("it does nothing")).toBeNull();
  await user.click(screen.getByRole("button", { name: "Plan: 1 warning, line 24" }));
  expect(screen.getByText("it does nothing")).toBeTruthy();
  shown(<PlanProblems problems={[{ ...problem, level: "error", message: "it cannot be read" }]} project="lockstep" />);
  expect(screen.getByText("it cannot be read")).toBeTruthy();
});
