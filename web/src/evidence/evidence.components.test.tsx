// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import { expect, test } from "vitest";
import type { Attempt, Step } from "../api/client";
import { cell, run, shown } from "../testing";
import { Evidence } from "./Evidence";

const step = (position: number, name: string, state: string, seconds: number, more: Partial<Step> = {}): Step =>
  ({ position, name, state, command: `do ${name}`, exit_status: state === "failed" ? 1 : 0, reason: "", started_at: "2026-11-27T08:00:00.000Z", ended_at: new Date(Date.parse("2026-11-27T08:00:00Z") + seconds * 1000).toISOString(), ...more }) as Step; // prettier-ignore

const rows: [what: string, steps: Step[], shownFirst: string][] = [
  ["of steps that passed, the first", [step(0, "fetch wheels", "passed", 1), step(1, "test", "passed", 2)], "do fetch wheels"],
  ["the first that did not end well", [step(0, "fetch wheels", "passed", 1), step(1, "test", "failed", 2), step(2, "tidy", "failed", 1)], "do test"],
  ["one that was skipped is no trouble", [step(0, "fetch wheels", "skipped", 0), step(1, "test", "failed", 2)], "do test"],
];

test.each(rows)("the command that stands above the log: %s", async (_, steps, shownFirst) => {
  const attempt = { id: 7, number: 1, control: "", runner: "dock", runtimes: { lua: "5.1.5" }, state: "failed", reason: "", pruned_at: null, others: [], steps } as unknown as Attempt;
  const { user } = shown(<Evidence run={run({ cells: [cell("unit", { lua: "5.1" }, { attempt_id: 7 })] })} />, {
    at: "/p/lockstep/runs/2?section=evidence",
    answers: { "GET /api/v1/attempts/7": attempt, "GET /api/v1/attempts/7/log/lines": { state: { size: 0, lines: 0, complete: true }, lines: [] } },
  });
  const list = within(await screen.findByRole("list", { name: "Steps" }));
  expect(list.getAllByRole("button").map((b) => b.textContent)).toEqual(steps.map((s) => `${s.state}${s.name}${s.exit_status ? "exit 1 · " : ""}${{ 0: "under 1 ms", 1: "1.0 s", 2: "2.0 s" }[(Date.parse(s.ended_at ?? "") - Date.parse(s.started_at ?? "")) / 1000]}`));
  const commands = () => [...document.querySelectorAll("p code")].map((c) => c.textContent);
  expect(commands()).toEqual([shownFirst]);
  for (const button of list.getAllByRole("button")) {
    await user.click(button);
    expect(commands()).toEqual([button.title]);
    expect(button.getAttribute("aria-current")).toBe("true");
  }
  // the longer a step took, the wider it is, and the shortest keeps its name
  const wide = [...document.querySelectorAll<HTMLElement>("ol > li")].map((l) => Number(l.style.flexGrow));
  expect(wide).toEqual(steps.map((s) => Math.max(1, (Date.parse(s.ended_at ?? "") - Date.parse(s.started_at ?? "")) / 100)));
});
