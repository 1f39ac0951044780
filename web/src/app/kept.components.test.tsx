// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import { expect, test } from "vitest";
import { Aside, type Chosen } from "../tests/Aside";
import { run, shown, where } from "../testing";
import { Drop } from "./Drop";
import { KeptFilters, same } from "./KeptFilters";

const PATH = "/api/v1/projects/lockstep/filters";
const kept = [
  { page: "runs", name: "Held at night", query: "verdict=held&event=schedule", by: "Ada", at: "2026-11-27T08:00:00Z" },
  { page: "tests", name: "Slow ones", query: "slower=2", by: "Ada", at: "2026-11-27T08:00:00Z" },
];

test.each([
  ["verdict=held&event=schedule", "event=schedule&verdict=held", true],
  ["cell=a&cell=b", "cell=b&cell=a", true],
  ["verdict=held", "verdict=clear", false],
  ["text=a+b", "text=a%20b", true],
  ["text=a", "", false],
])("whether two filters ask for the same: %s and %s", (one, other, told) => {
  expect(same(one, other)).toBe(told);
});

test("a page's own filters are offered, and the one that is looked through is given up or left", async () => {
  const chosen: string[] = [];
  const { user, written } = shown(<KeptFilters project="lockstep" page="runs" query="event=schedule&verdict=held" onChoose={(q) => chosen.push(q)} />, { answers: { [`GET ${PATH}`]: kept, [`DELETE ${PATH}`]: null } });
  const mine = await screen.findByRole("button", { name: "Held at night" });
  expect(mine.getAttribute("aria-pressed")).toBe("true");
  expect(screen.queryByRole("button", { name: "Slow ones" })).toBeNull();
  expect(screen.queryByRole("button", { name: "Keep this filter …" })).toBeNull();
  await user.click(mine);
  expect(chosen).toEqual([""]);
  await user.click(screen.getByRole("button", { name: "Keep “Held at night” no more" }));
  expect((await written())[0]?.path).toBe(`${PATH}?page=runs&name=Held%20at%20night`);
});

test("what is looked for is kept under a name, and a refusal is said", async () => {
  const { user, written } = shown(<KeptFilters project="lockstep" page="failures" query="text=tide" onChoose={() => undefined} />, { answers: { [`GET ${PATH}`]: kept, [`PUT ${PATH}`]: 409 } });
  await user.click(await screen.findByRole("button", { name: "Keep this filter …" }));
  expect(screen.getByRole<HTMLButtonElement>("button", { name: "Keep" }).disabled).toBe(true);
  await user.type(screen.getByLabelText("Name of the filter"), "Tides");
  await user.click(screen.getByRole("button", { name: "Keep" }));
  expect((await written())[0]?.body).toEqual({ page: "failures", name: "Tides", query: "text=tide" });
  expect((await screen.findByRole("alert")).textContent).toBe("refused with 409");
});

test("nothing stands where nothing is looked for and nothing is kept", async () => {
  const { calls } = shown(<KeptFilters project="lockstep" page="failures" query="" onChoose={() => undefined} />, { answers: { [`GET ${PATH}`]: kept } });
  await expect.poll(() => calls.length).toBe(1);
  expect(screen.queryByRole("group")).toBeNull();
});

const WANTED = { base: undefined, state: "not-passed", search: "", slower: undefined, cells: [] };
const ASIDE = "/api/v1/projects/lockstep/quarantines";

test("tests that were chosen go into quarantine together", async () => {
  const told: Chosen[] = [];
  const chosen = new Map([[3, "rises"], [8, "falls"]]); // prettier-ignore
  const { user, written } = shown(<Aside run={run()} wanted={WANTED} shown={40} chosen={chosen} onChosen={(c) => told.push(c)} />, { answers: { [`POST ${ASIDE}`]: [] } });
  expect(screen.getByText("2 tests chosen")).toBeTruthy();
  await user.click(screen.getByRole("button", { name: "Quarantine …" }));
  expect(screen.getByText(/Failures of 2 tests are recorded/)).toBeTruthy();
  await user.type(screen.getByLabelText(/Reason/), "the gauge drifts");
  await user.click(screen.getByRole("button", { name: "Quarantine" }));
  expect((await written())[0]?.body).toMatchObject({ tests: [3, 8], reason: "the gauge drifts" });
  await expect.poll(() => told.at(-1)?.size).toBe(0);
});

test.each([
  [40, true],
  [500, true],
  [501, false],
])("all that are shown are chosen, as many as come in one go: %i", async (shownTests, offered) => {
  const told: Chosen[] = [];
  const rows = [{ test: 5, name: "rises" }, { test: 6, name: "falls" }]; // prettier-ignore
  const { user } = shown(<Aside run={run()} wanted={WANTED} shown={shownTests} chosen={new Map()} onChosen={(c) => told.push(c)} />, { answers: { "GET /api/v1/projects/lockstep/runs/2/tests": { rows } } });
  const button = screen.queryByRole("button", { name: "Choose all that are shown" });
  expect(button !== null).toBe(offered);
  if (!button) return;
  await user.click(button);
  await expect.poll(() => [...(told.at(-1) ?? [])]).toEqual([[5, "rises"], [6, "falls"]]); // prettier-ignore
});

test("a menu is loaded when it is wanted, has the focus, and gives it back", async () => {
  const { user } = shown(<Drop width={100} target={<button type="button">More</button>} entries={[{ title: "Trends", to: "/p/lockstep/trends" }, { title: "Nothing", disabled: true }]} head="Pages" />);
  const button = screen.getByRole("button", { name: "More" });
  expect([button.getAttribute("aria-haspopup"), button.getAttribute("aria-expanded")]).toEqual(["menu", "false"]);
  await user.click(button);
  expect((await screen.findByRole("menuitem", { name: "Nothing" })).getAttribute("data-disabled")).toBe("true");
  expect(screen.getByRole("button", { name: "More", hidden: true }).getAttribute("aria-expanded")).toBe("true");
  await user.keyboard("{Escape}");
  await expect.poll(() => screen.queryByRole("menu")).toBeNull();
  await user.click(screen.getByRole("button", { name: "More" }));
  await user.click(await screen.findByRole("menuitem", { name: "Trends" }));
  await expect.poll(where).toBe("/p/lockstep/trends");
});
