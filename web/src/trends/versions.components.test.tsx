// @vitest-environment jsdom
import { expect, test } from "vitest";
import { screen } from "@testing-library/react";
import type { Fewer, VersionLine } from "../api/client";
import { shown } from "../testing";
import { FewerOf, nightly, Two } from "./VersionsPage";

const step = (wish: Partial<Fewer["steps"][number]>) => ({ key: "lua=5.1", found: 3, seconds: 20, late: 0, over: 0, hours: null, saved: 0.4, ...wish });

test.each([
  [step({ found: 9 }), "40 % of the time saved"],
  [step({ late: 6, hours: 9.5 }), "6 seen 9 h 30 min later, 40 % of the time saved"],
  [step({ late: 4, hours: 9, over: 2 }), "4 seen 9 h 0 min later, 2 over by then, 40 % of the time saved"],
])("a night with every cell is told beside fewer by day", (wish, said) => {
  expect(nightly(wish, 9)).toBe(said);
});

test("fewer cells say what they find, at night too, and in which order the first failure shows", () => {
  const fewer: Fewer = {
    job: "unit", said: "2 cells would have found all.", cells: 12, runs: 80, breaks: 9, seconds: 400, checked: null,
    steps: [step({ found: 5, late: 3, hours: 8, over: 1 }), step({ key: "lua=5.4", found: 9, seconds: 41, saved: 0.2 })],
    ways: [{ name: "each value once", cells: 4, found: 7.5, seconds: 130 }],
    orders: [{ name: "by chance", seconds: 120 }, { name: "the shortest first", seconds: 90 }, { name: "those that failed last first", seconds: 30 }],
  }; // prettier-ignore
  shown(<FewerOf fewer={fewer} named={false} />);
  expect(screen.getByRole("row", { name: /^lua=5.1/ }).textContent).toContain("5 of 920 s3 seen 8 h 0 min later, 1 over by then, 40 % of the time saved");
  expect(screen.getByRole("row", { name: /each value once/ }).textContent).toContain("7.5 of 9");
  expect(document.body.textContent).toContain("half of the breaks show after 2 min by chance, 1 min 30 s the shortest first and 30 s those that failed last first.");
});

test("two values are compared once both are chosen and differ", async () => {
  const line = (value: string) => ({ state: "binding", offered: true, record: { job: "unit", dimension: "lua", value } }) as unknown as VersionLine;
  const said = "Over 80 runs with both, 5.1 alone failed in 3, 5.4 alone in 0, both in 2.";
  const { user } = shown(<Two project="lockstep" values={[line("5.1"), line("5.4")]} />, { answers: { "GET /api/v1/projects/lockstep/versions/beside": { said, told: {} } } });
  await user.selectOptions(screen.getByLabelText("One: lua of unit"), "5.1");
  await user.selectOptions(screen.getByLabelText("the other: lua of unit"), "5.1");
  expect(screen.queryByText(said)).toBeNull();
  await user.selectOptions(screen.getByLabelText("the other: lua of unit"), "5.4");
  expect(await screen.findByText(said)).toBeDefined();
});
