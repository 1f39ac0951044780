// @vitest-environment jsdom
import { unlessItScrolls } from "./keys";
import { act, screen } from "@testing-library/react";
import { expect, test, vi } from "vitest";
import { Route, Routes } from "react-router";
import { CallError, type Pull, type SentLine } from "../api/client";
import { byMark, Chooser } from "../evidence/Chooser";
import { Pulls } from "../pulls/Pulls";
import { standing, Sent } from "../sent/Sent";
import { Actions } from "../run/Actions";
import { ThisProject } from "../settings/ThisProject";
import { Ways } from "../settings/Ways";
import { cell, run, shown } from "../testing";
import { Awaited, Loading } from "./Awaited";
import { pulseWords } from "./Frame";
import { iconOf, titleOf, useToldWhenEnded } from "./tab";

const NOW = Date.parse("2026-11-27T09:00:00Z");

test("what loads is silent for a moment, then its outline, then words", () => {
  vi.useFakeTimers();
  shown(<Loading what="The strip" rows={3} />);
  const box = screen.getByTestId("loading");
  expect(box.children.length).toBe(0);
  act(() => void vi.advanceTimersByTime(250));
  expect(box.children.length).toBe(3);
  act(() => void vi.advanceTimersByTime(2000));
  expect(box.textContent).toContain("The strip still loads.");
  vi.useRealTimers();
});

test("what cannot be loaded says why and what to do, and is tried again; what was there stays", async () => {
  const refetch = vi.fn();
  const { user } = shown(
    <>
      <Awaited of={{ data: undefined, error: new CallError(500, "out of order", "wait a little"), refetch }} what="It">{() => null}</Awaited>
      <Awaited of={{ data: "the former", error: new Error("gone"), refetch }} what="That">{(text) => <p>{text}</p>}</Awaited>
    </>,
  );
  expect(screen.getByRole("alert").textContent).toContain("It cannot be shown. out of order — wait a little");
  expect(screen.getByText("the former")).toBeTruthy();
  await user.click(screen.getByRole("button", { name: "Try again" }));
  expect(refetch).toHaveBeenCalledOnce();
});

test.each([
  [undefined, true, false, "…"],
  [{ running: 0, waiting: 0, done_in: null, controls: 0 }, true, false, "idle"],
  [{ running: 0, waiting: 0, done_in: null, controls: 2 }, true, false, "2 repeated"],
  [{ running: 0, waiting: 0, done_in: null, controls: 0 }, false, false, "server away"],
  [{ running: 2, waiting: 5, done_in: 130, controls: 1 }, true, false, "2 running · 5 waiting · about 2 min 10 s"],
  [{ running: 2, waiting: 5, done_in: 130, controls: 0 }, true, true, "2 · 5"],
])("the pill never says idle when nothing was heard: %j", (pulse, connected, narrow, said) => {
  expect(pulseWords(pulse, connected, narrow)).toBe(said);
});

test("a tab is named by its run, with the verdict's mark", () => {
  expect(titleOf(run())).toBe("lockstep #2 held · Myriant");
  expect(new Set((["clear", "held", "undecided", "exempt"] as const).map(iconOf)).size).toBe(4);
});

test("whoever waits for a run is told when it ends, though another page is shown meanwhile", async () => {
  const said: string[] = [];
  const tell = (title: string) => void said.push(title);
  const Told = Object.assign(function (title: string) { tell(title); }, { requestPermission: () => Promise.resolve("granted") }); // prettier-ignore
  vi.stubGlobal("Notification", Told);
  const Watch = () => {
    useToldWhenEnded();
    return null;
  };
  const open = run({ open: true, cells: [cell("unit", {}, { state: "running", mark: "running" })], run: { ...run().run, verdict: "undecided" } });
  const answers: Record<string, unknown> = { "GET /api/v1/projects/lockstep/runs/2": open };
  const { user, client } = shown(
    <>
      <Watch />
      <Actions run={open} />
    </>,
    { answers },
  );
  await user.click(screen.getByRole("button", { name: "Tell me" }));
  expect(await screen.findByRole("button", { name: "You are told when it ends" })).toBeTruthy();
  expect(said).toEqual([]);
  answers["GET /api/v1/projects/lockstep/runs/2"] = run();
  await client.invalidateQueries();
  await vi.waitFor(() => expect(said).toEqual(["lockstep #2 held · Myriant"]), { timeout: 60_000 });
});

const cells = [cell("unit", { lua: "5.4" }), cell("unit", { lua: "5.1" }, { mark: "new", state: "failed" }), cell("lint", {}, { mark: "void", state: "void" })];

test("cells stand by their marks, those that tell most first, and are found by words", async () => {
  expect(byMark(cells).map((g) => g.mark)).toEqual(["new", "void", "passed"]);
  const chosen: string[] = [];
  const { user } = shown(<Chooser run={run({ cells })} chosen={cells[1] as never} onChoose={(c) => chosen.push(c.key)} />);
  await user.click(screen.getByRole("button", { name: "Next cell" }));
  await user.click(screen.getByRole("button", { name: "Previous cell" }));
  await user.click(screen.getByRole("button", { name: "Cell: unit · lua 5.1, failed" }));
  await user.type(screen.getByLabelText("Filter cells"), "5.4 unit");
  await user.click(screen.getByRole("menuitem"));
  expect(chosen).toEqual(["", "lua=5.4", "lua=5.4"]);
});

const line = (more: Partial<SentLine>): SentLine => ({ id: 5, way: "room", kind: "request", shown: "rooms.example", run: 2, said: "push to main: held", state: "waiting", tries: 0, answer: "", at: "2026-11-27T08:59:00Z", next_at: null, sent_at: null, behind: false, ...more });

test.each([
  [{ behind: true }, "waits for an earlier one on this way"],
  [{ state: "kept", answer: "kept for ada@tidewater.example until 2026-11-28 07:00 UTC" }, "kept for ada@tidewater.example until 2026-11-28 07:00 UTC"],
  [{ state: "sent", sent_at: "2026-11-27T08:59:50Z", answer: "taken for 1 of 1; kept for bo@x.example until 07:00 UTC" }, "arrived just now; kept for bo@x.example until 07:00 UTC"],
  [{ state: "sent", sent_at: "2026-11-27T08:59:50Z" }, "arrived just now"],
  [{ state: "aside", answer: "404 Not Found" }, "put aside: 404 Not Found"],
  [{}, "is being sent"],
  [{ tries: 2, answer: "503", next_at: "2026-11-27T09:00:20Z" }, "did not arrive (503); the next try, after 2, in 20 s"],
])("a delivery says how it stands: %j", (more, said) => {
  expect(standing(line(more), NOW)).toBe(said);
});

test("what was put aside is sent again", async () => {
  const { user, written } = shown(<Sent run={run()} now={NOW} />, { answers: { "GET /api/v1/projects/lockstep/sent": [line({ state: "aside", answer: "404" })], "POST /api/v1/projects/lockstep/sent/5/again": null } });
  await user.click(await screen.findByRole("button", { name: "Send it again" }));
  expect((await written()).map((c) => c.path)).toEqual(["/api/v1/projects/lockstep/sent/5/again"]);
});

const pull = (more: Partial<Pull>): Pull => ({ number: 7, title: "Raise the gate", author: "Bo", source: "gate", target: "main", state: "open", opened_at: "2026-11-27T08:00:00Z", newest: null, verdict: "undecided", new: 0, changed_covered: null, merge: "its head has not been tested", mergeable: false, asks: "", stale: false, heads: [], ...more });

test("a stranger's pull request is let run at the head that was looked at", async () => {
  const head = "ab12cd3".padEnd(40, "0");
  const answers = { "GET /api/v1/projects/lockstep/pull-requests": { said: "1 pull request open: 1 of strangers to be looked at.", pulls: [pull({ asks: head, stale: true })], closed: 0, batches: [] }, "POST /api/v1/projects/lockstep/pull-requests/7/word": { said: "", runs: [3], repeated: false } };
  const { user, written } = shown(<Routes><Route path="/p/:project/pulls" element={<Pulls />} /></Routes>, { at: "/p/lockstep/pulls", answers });
  const button = await screen.findByRole("button", { name: "Let it run at ab12cd3" });
  expect(screen.queryByRole("button", { name: "Test it as it stands now" })).toBeNull();
  await user.click(button);
  expect((await written())[0]?.body).toEqual({ head });
});

test("a pull request says what stands in its way, and is tested as it stands now", async () => {
  const answers = { "GET /api/v1/projects/lockstep/pull-requests": { said: "1 pull request open: all are being tested.", pulls: [pull({})], closed: 2, batches: [] }, "POST /api/v1/projects/lockstep/pull-requests/7/runs": { said: "", runs: [3], repeated: false } };
  const { user, written, calls } = shown(<Routes><Route path="/p/:project/pulls" element={<Pulls />} /></Routes>, { at: "/p/lockstep/pulls", answers });
  const row = await screen.findByRole("listitem", { name: "Pull request 7" });
  expect(row.textContent).toContain("Its head has not been tested.");
  await user.click(screen.getByRole("button", { name: "Test it as it stands now" }));
  expect(await written()).toHaveLength(1);
  await user.click(screen.getByRole("button", { name: "2 that are over" }));
  expect(calls.some((c) => c.path.endsWith("closed=true"))).toBe(true);
});

test("a way is kept as it was written, and a refusal stands beside it", async () => {
  const base = "/api/v1/projects/lockstep/ways";
  const { user, written } = shown(<Ways project="lockstep" />, { answers: { [`GET ${base}`]: [], "GET /api/v1/template-values": [], [`PUT ${base}/room`]: 422 } });
  await user.click(screen.getByRole("button", { name: "Tell it somewhere …" }));
  await user.type(screen.getByLabelText("Name"), "room");
  await user.type(screen.getByLabelText("Address"), "https://rooms.example");
  await user.type(screen.getByLabelText("A header"), "X-Key: one:two");
  await user.type(screen.getByLabelText("Only of branches"), "main, season/*");
  await user.click(screen.getByRole("button", { name: "Keep it" }));
  expect((await screen.findByRole("alert")).textContent).toBe("refused with 422");
  expect((await written())[0]?.body).toMatchObject({ kind: "request", always: false, headers: { "X-Key": "one:two" }, branches: ["main", "season/*"], to: [] });
});

test("a project is removed only when its name is written, after what goes was said", async () => {
  const project = { name: "lockstep", description: "", address: "", main_branch: "main", hooked: true, looked_at: null, trouble: null, paused: false, tracker: "", pull_refs: "", pull_target: "", keep_days: null, newest: null };
  const answers = {
    "GET /api/v1/projects": [project], "GET /api/v1/me": { id: 1, name: "Ada", role: "admin" },
    "GET /api/v1/projects/lockstep/kept": { runs: 3, attempts: 9, results: 9, log_bytes: 1200, file_bytes: 0 },
    "DELETE /api/v1/projects/lockstep": null, "PATCH /api/v1/projects/lockstep": { name: "lockstep" },
  }; // prettier-ignore
  const { user, written } = shown(<ThisProject project="lockstep" />, { answers });
  await user.click(await screen.findByRole("button", { name: "Pause" }));
  await user.click(await screen.findByRole("button", { name: "Remove this project …" }));
  expect(await screen.findByText(/With it go 3 runs of 9 attempts, 1.2 kB of logs/)).toBeTruthy();
  const remove = screen.getByRole("button", { name: "Remove it" });
  await user.type(screen.getByLabelText("Write lockstep to remove it"), "lock");
  expect((remove as HTMLButtonElement).disabled).toBe(true);
  await user.type(screen.getByLabelText("Write lockstep to remove it"), "step");
  await user.click(remove);
  expect((await written(2)).map((c) => [c.method, c.path])).toEqual([["PATCH", "/api/v1/projects/lockstep"], ["DELETE", "/api/v1/projects/lockstep?really=lockstep"]]);
});

test.each([
  ["End", "region", { scrollHeight: 900, clientHeight: 300 }, false],
  ["End", "region", { scrollHeight: 300, clientHeight: 300 }, true],
  ["End", "listbox", { scrollHeight: 900, clientHeight: 300 }, true],
  ["ArrowLeft", "log", { scrollWidth: 900, clientWidth: 300 }, false],
  ["ArrowLeft", "log", { scrollHeight: 900, clientHeight: 300 }, true],
  ["p", "log", { scrollWidth: 900, scrollHeight: 900 }, true],
])("the key %s in a %s of %j acts: %s", (key, role, sizes, acts) => {
  const box = document.createElement("div");
  box.tabIndex = 0;
  box.setAttribute("role", role);
  for (const [name, value] of Object.entries(sizes)) Object.defineProperty(box, name, { value });
  const act = vi.fn();
  box.addEventListener("keydown", unlessItScrolls(act));
  const event = new KeyboardEvent("keydown", { key, cancelable: true });
  box.dispatchEvent(event);
  expect([act.mock.calls.length, event.defaultPrevented]).toEqual(acts ? [1, true] : [0, false]);
});
