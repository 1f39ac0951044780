// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import { expect, test } from "vitest";
import type { Cost, Morning, Rankings, ReleaseCard, Target, Waiver } from "../api/client";
import { Told as CostTold } from "../cost/CostPage";
import { Told } from "../morning/MorningPage";
import { Told as RankingsTold } from "../rankings/RankingsPage";
import { Drill } from "../settings/Drill";
import { Waivers } from "../settings/Waivers";
import { run, shown } from "../testing";
import { Card } from "./ReleasesPage";

const NOW = Date.parse("2026-11-27T09:00:00Z");
const build = { commit: "b".repeat(40), title: "Draw the ruler", author: "Tobias", run: 81, sentence: "Held.", at: "2026-11-27T08:00:00Z" };
const quiet: Morning = {
  project: "lockstep", branch: "main", at: "2026-11-27T07:00:00Z", since: "2026-11-26T18:00:00Z", usable: true, said: "Yes: it is clear.", newest: build,
  last_clear: build, causes: [], more_causes: 0, turned: [], still_held: 0, schedules: [], waiting: [],
}; // prettier-ignore
const cause = { finding: "s1", title: "ruler draws", where: "where lua=5.1", message: "expected 3", new: true, chance: false, run: 79, author: "Tobias", taken: "" };

test("a quiet morning says that nothing happened", () => {
  shown(<Told morning={quiet} />);
  expect(document.body.textContent).toContain("Nothing broke, nothing was mended");
  expect(screen.queryByRole("region")).toBeNull();
});

test("what is new stands apart from what is there still, with whose it is and who sees to it", () => {
  const morning = { ...quiet, usable: false, causes: [cause, { ...cause, finding: "s2", new: false, chance: true, taken: "Ada" }], more_causes: 2, still_held: 1, waiting: ["#80 shelf"] };
  shown(<Told morning={morning} />);
  expect(within(screen.getByRole("region", { name: "New on main" })).getByRole("listitem").textContent).toContain("since #79 by Tobias; nobody has taken it");
  expect(within(screen.getByRole("region", { name: "Still there" })).getByRole("listitem").textContent).toContain("perhaps by chance; Ada sees to it");
  expect(document.body.textContent).toContain("2 more causes");
  expect(document.body.textContent).toContain("1 branch or pull request held as before.");
  expect(screen.getByRole("link", { name: "#80 shelf" }).getAttribute("href")).toBe("/p/lockstep/runs/80");
});

test.each([
  [{ state: "ran", run: 80, verdict: "held", said: "3 min late" }, "nightly ran as #80: held, 3 min late"],
  [{ state: "ran", run: 80, verdict: "" }, "nightly ran as #80: no verdict"],
  [{ state: "missed" }, "nightly was missed"],
  [{ state: "comes" }, "nightly comes 28 Nov 2026"],
])("a schedule that %j is said", (more, said) => {
  const schedule = { name: "nightly", words: "every day at 02:20, UTC", run: null, verdict: "", said: "", next_at: "2026-11-28T02:20:00Z", ...more };
  shown(<Told morning={{ ...quiet, schedules: [schedule] }} />);
  expect(screen.getByRole("listitem").textContent).toContain(said);
});

const target = (more: Partial<Target>): Target => ({ job: "shelf", title: "The shelf", state: "passed", reason: "", approval: "given", by: "Ada", because: "seen", at: "2026-11-27T08:00:00Z", live: false, attempt: 1, proof: [], ...more });
const card = (more: Partial<Target>, clear = true): ReleaseCard => ({ run: { ...run().run, number: 2, verdict: clear ? "clear" : "held" }, version: "v0.2.0", notes: ["Cut it"], more_notes: 3, made: [], targets: [target(more)], may_release: clear });

test.each<[Partial<Target>, boolean, string, string | null]>([
  [{ live: true }, true, "is live", null],
  [{}, true, "was brought out, 1 h ago; approved by Ada: “seen”", "Bring it back"],
  [{ live: true, proof: [{ path: "dist/a.tar", digest: "ab".repeat(32), found: true }] }, true, "found there by its digest: dist/a.tar abababababab…", null],
  [{ state: "failed", proof: [{ path: "dist/a.tar", digest: "ab".repeat(32), found: true }, { path: "dist/b.tar", digest: "cd".repeat(32), found: false }] }, true, "not found there: dist/b.tar cdcdcdcdcdcd…", "Try it again"],
  [{ state: "failed" }, true, "failed", "Try it again"],
  [{ state: "void", reason: "the runner was lost" }, true, "the runner was lost", "Try it again"],
  [{ state: "skipped", reason: "the verdict is held" }, false, "the verdict is held", null],
  [{ state: "waiting", reason: "waits", approval: "waiting", at: null }, true, "waits: give or refuse it", null],
  [{ state: "skipped", reason: "Ada did not approve", approval: "refused", at: null }, true, "Ada did not approve: “seen”", null],
])("a target that is %j (clear: %j) says so, and offers only what may be", async (more, clear, said, button) => {
  const { user, written } = shown(<Card project="lockstep" card={card(more, clear)} now={NOW} />, { answers: { "POST /api/v1/projects/lockstep/runs/2/again": { cells: 1 } } });
  expect(screen.getAllByRole("listitem")[0]?.textContent).toContain(said);
  expect(document.body.textContent).toContain("4 commits since the card before");
  expect(screen.queryByRole("button")?.textContent ?? null).toBe(button);
  if (!button) return;
  await user.click(screen.getByRole("button"));
  expect((await written())[0]?.body).toEqual({ which: "chosen", cells: "job=shelf" });
});

test("only a run that is clear has a signed statement, and what is kept no more has no link", () => {
  const made = [{ job: "archive", key: "", path: "dist/a.tar", digest: "ab".repeat(32), size: 10_240, report: 7 }, { job: "archive", key: "", path: "dist/b.tar", digest: "cd".repeat(32), size: 1, report: null }];
  shown(<Card project="lockstep" card={{ ...card({}, false), made }} now={NOW} />);
  expect(screen.queryByRole("link", { name: "a signed statement" })).toBeNull();
  shown(<Card project="lockstep" card={{ ...card({}), made }} now={NOW} />);
  expect(screen.getByRole("link", { name: "a signed statement" }).getAttribute("href")).toBe("/api/v1/projects/lockstep/runs/2/attestation");
  expect(screen.queryByRole("link", { name: "dist/b.tar" })).toBeNull();
});

test("a waiver that is over stays listed, one in force can be ended", async () => {
  const waiver: Waiver = { id: 4, rule: "mostly covered", context: "push main", run: 2, shown: "50.0 %, at least 70.0 %", reason: "it moves", by: "Ada", at: "2026-11-27T08:00:00Z", until: "2026-12-05T00:00:00Z", over: false, ended_why: "" };
  const base = "/api/v1/projects/lockstep/waivers";
  const { user, written } = shown(<Waivers project="lockstep" />, { answers: { [`GET ${base}`]: [waiver, { ...waiver, id: 3, rule: "fast", context: "", over: true, ended_why: "Ada: mended" }], [`DELETE ${base}/4`]: waiver } });
  expect((await screen.findByText("everywhere")).closest("tr")?.textContent).toContain("Ada: mended");
  await user.click(screen.getByRole("button", { name: "End the waiver of mostly covered" }));
  expect((await written())[0]).toMatchObject({ method: "DELETE", path: `${base}/4` });
});

test("a drill says where the gate does not hold, and where it is the same at every place", async () => {
  const place = (name: string, said: string, right: boolean) => ({ place: name, said, right });
  const steps = [
    { title: "everything passes", expected: "clear", sentence: "Clear: 3 of 3.", places: [place("the strip", "clear", true), place("the badge", "clear", true)], right: true },
    { title: "a cell gives no result", expected: "held", sentence: "Held.", places: [place("the strip", "held", true), place("the badge", "clear", false)], right: false },
  ];
  const said = "The gate does NOT hold: a cell gives no result, and it must be held.";
  const at = { by: "Ada Fen", at: "2026-11-30T10:00:00Z", refused: "" };
  const over = { ...at, goes_on: false, over: "2026-11-30T10:00:09Z", came: { said, passed: false, steps } };
  const answers: Record<string, unknown> = { "GET /api/v1/projects/lockstep/drill": over, "POST /api/v1/projects/lockstep/drill": { ...at, goes_on: true, over: null, came: null } };
  const { user } = shown(<Drill project="lockstep" />, { answers });
  expect(await screen.findByText(/asked for by Ada Fen/)).toBeTruthy(); // what came of the last one outlives a reload
  await user.click(screen.getByRole("button", { name: "Try the gate" }));
  expect(await screen.findByText(/is being tried/)).toBeTruthy();
  expect(screen.queryByText(said)).toBeNull();
  expect(await screen.findByText(said, undefined, { timeout: 5000 })).toBeTruthy();
  const [, good, bad] = screen.getAllByRole("row");
  expect(good?.textContent).toContain("the same at 2 places");
  expect(bad?.textContent).toContain("the badge says clear");
  expect(bad?.textContent).not.toContain("the strip says");
});

test("a budget is set and taken away, and prices are only shown where there are some", async () => {
  const part = (name: string, cost: number) => ({ name, minutes: 42.25, cost, attempts: 1, said: "", nearly_spent: false });
  const cost: Cost = {
    said: "42 min so far this month.", minutes: 42.25, cost: 0, budget: 600, nearly_spent: false, forecast: null, saved: 3.2,
    days: [{ day: "2026-11-26", minutes: 0 }, { day: "2026-11-27", minutes: 42.25 }], events: [part("push", 0)], classes: [part("no class named", 0)],
  }; // prettier-ignore
  const { user, written } = shown(<CostTold project="lockstep" cost={cost} />, { answers: { "PATCH /api/v1/projects/lockstep": { name: "lockstep" } } });
  expect(screen.getByRole("row", { name: /push/ }).textContent).toBe("push42 min1 attempt");
  expect(document.body.textContent).toContain("3.2 min were not taken");
  expect(within(screen.getByRole("list")).getAllByRole("listitem").at(-1)?.textContent).toBe("2026-11-27: 42 min");
  await user.type(screen.getByLabelText("Budget, minutes a month"), "0");
  await user.click(screen.getByRole("button", { name: "Keep it" }));
  expect((await written())[0]?.body).toEqual({ budget: 0 });
});

test("an event has a budget of its own, and says how it stands", async () => {
  const nightly = { name: "schedule", minutes: 35, cost: 0, attempts: 3, budget: 40, said: "35 min so far this month, 88 % of the 40 of the budget.", nearly_spent: true };
  const cost: Cost = { said: "35 min so far this month.", minutes: 35, cost: 0, budget: null, nearly_spent: false, forecast: null, saved: 0, days: [], events: [nightly], classes: [] };
  const { user, written } = shown(<CostTold project="lockstep" cost={cost} />, { answers: { "PATCH /api/v1/projects/lockstep": { name: "lockstep" } } });
  expect(within(screen.getByRole("row", { name: /schedule/ })).getByText(/88 %/).tagName).toBe("B");
  await user.selectOptions(screen.getByRole("combobox"), "schedule");
  expect(screen.getByLabelText("Budget, minutes a month").getAttribute("placeholder")).toBe("40");
  await user.type(screen.getByLabelText("Budget, minutes a month"), "90");
  await user.click(screen.getByRole("button", { name: "Keep it" }));
  expect((await written())[0]?.body).toEqual({ event_budgets: { schedule: 90 } });
});

test("prices stand beside minutes where runners have some", () => {
  const part = { name: "large", minutes: 10, cost: 1.5, attempts: 2, said: "", nearly_spent: false };
  shown(<CostTold project="lockstep" cost={{ said: "", minutes: 10, cost: 1.5, budget: null, nearly_spent: false, forecast: null, saved: 0, days: [], events: [], classes: [part] }} />);
  expect(screen.getByRole("row").textContent).toBe("large10 min1.502 attempts");
  expect(document.body.textContent).toContain("1.5 by the runners' prices");
});

const ranked: Rankings = {
  said: "Of the newest 40 pushes to main, 9 were held.", branch: "main", runs: 40, since: null, quiet: 80, tests: 87, run: 61, longest: 12, broke: 5, pushes: 30,
  failing: [{ test: 7, title: "ruler draws", job: "unit", runs: 6, held: 5, began: 3 }], together: [{ titles: ["a", "b"], tests: 12, runs: 4 }],
  slow: [{ test: 9, title: "a year", job: "unit", seconds: 30, gain: 2.5 }, { test: 8, title: "a day", job: "unit", seconds: 3, gain: 0 }],
  endings: [{ said: "tests failed", cells: 20, minutes: 3.25 }], files: [{ path: "src/ruler.lua", broke: 4, changes: 5, low: 0.342 }],
}; // prettier-ignore

test("rankings say what is ranked by what, and what a test would gain", () => {
  shown(<RankingsTold project="tidebook" data={ranked} />);
  const rows = (name: string) => within(screen.getByRole("region", { name })).getAllByRole("row").slice(1).map((row) => row.textContent);
  expect(rows("Tests that held most pushes")).toEqual(["ruler draws56 runs3 times"]);
  expect(rows("Always together")).toEqual(["a, b and 10 more124"]);
  expect(rows("Slowest tests")).toEqual(["a year30 s2.5 s", "a day3.0 snothing"]);
  expect(rows("Files whose changes break things")).toEqual(["src/ruler.lua4 of 534 %"]);
  expect(rows("How cells ended badly")).toEqual(["tests failed203.3"]);
  expect(screen.getByRole("link", { name: "ruler draws" }).getAttribute("href")).toBe("/p/tidebook/tests/7");
});

test("where nothing is ranked each part says so", () => {
  shown(<RankingsTold project="tidebook" data={{ ...ranked, failing: [], together: [], slow: [], endings: [], files: [] }} />);
  for (const words of ["No test failed.", "No two tests failed in the very same runs.", "No test takes 10 ms in all cells together", "5 of 30 pushes on top of what was clear broke something.", "Every cell passed."]) expect(document.body.textContent).toContain(words);
  expect(screen.queryByRole("table")).toBeNull();
});
