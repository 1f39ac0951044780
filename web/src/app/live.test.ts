import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { QueryClient } from "@tanstack/react-query";
import { concerned, holds, isConnected, listen, onConnection, rounds } from "./live";
import { keys } from "./queries";

beforeEach(() => void vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout", "performance"] }));
afterEach(() => void vi.useRealTimers());

const rows: [what: string, gap: number, takes: number, comes: number[], began: number[]][] = [
  ["one thing is asked for soon", 300, 10, [0], [60]],
  ["a burst is one round", 300, 10, [0, 5, 10, 20, 50], [60]],
  ["what comes during a round or soon after is in the next", 300, 10, [0, 65, 80, 200, 300], [60, 370]],
  ["a long burst is a round each gap", 300, 0, Array.from({ length: 90 }, (_, n) => n * 10), [60, 360, 660, 960]],
  ["a server that takes long is asked less", 300, 1000, [0, 100, 1500, 4000], [60, 3060, 6060]],
  ["one that never answers holds nothing up", 300, Infinity, [0, 100], [60, 8060]],
];

test.each(rows)("%s", async (_, gap, takes, comes, began) => {
  const found: number[] = [];
  const start = performance.now();
  const asked = rounds<string>(gap, (things) => {
    found.push(Math.round((performance.now() - start) / 10) * 10); // a fake clock adds 1 ms to what is due at once
    expect(new Set(things).size).toBe(things.length);
    return takes === Infinity ? new Promise(() => undefined) : new Promise((done) => setTimeout(done, takes));
  });
  for (const [turn, at] of comes.entries()) {
    setTimeout(() => {
      asked.add("strip", "strip");
      if (turn % 2) asked.add("run", "run");
    }, at);
  }
  await vi.advanceTimersByTimeAsync(30_000);
  expect(found).toEqual(began);
});

test("after its end nothing is asked, and a failure is no end", async () => {
  const go = vi.fn(() => Promise.reject(new Error("away")));
  const asked = rounds<string>(100, go);
  asked.add("strip", "strip");
  await vi.advanceTimersByTimeAsync(1000);
  asked.add("strip", "strip");
  await vi.advanceTimersByTimeAsync(1000);
  expect(go).toHaveBeenCalledTimes(2);
  asked.end();
  asked.add("strip", "strip");
  await vi.advanceTimersByTimeAsync(1000);
  expect(go).toHaveBeenCalledTimes(2);
});

const always = [keys.pulse(), keys.desk()];
const ofProject = [keys.strip("lockstep"), keys.attempt(), keys.log(), keys.releases("lockstep"), keys.morning("lockstep"), keys.ways("lockstep")];

test.each([
  [{ kind: "log", project: "lockstep", run: 3 }, [keys.log()]],
  [{ kind: "run", project: "lockstep", run: 3 }, [...always, keys.projects(), ...ofProject, keys.run("lockstep", 3), keys.older("lockstep", 3)]],
  [{ kind: "cell", project: "lockstep", run: 3 }, [...always, keys.runners(), ...ofProject, keys.run("lockstep", 3), keys.older("lockstep", 3)]],
  [{ kind: "project", project: "lockstep", run: null }, [...always, keys.projects(), ...ofProject]],
  [{ kind: "runner", project: null, run: null }, [...always, keys.runners()]],
])("what is asked for again after %j", (change, asked) => {
  expect(concerned(change)).toEqual(asked);
});

test("older runs of a strip are asked for again when one of them changes, and only then", () => {
  const data = { pages: [{ columns: [{ run: { number: 4 } }] }, { columns: [{ run: { number: 3 } }] }] };
  const query = { queryKey: keys.history("lockstep", "main", 5), state: { data } };
  expect(holds(query, keys.older("lockstep", 3))).toBe(true);
  expect(holds(query, keys.older("lockstep", 5))).toBe(false);
  expect(holds(query, keys.older("tidebook", 3))).toBe(false);
  expect(holds({ ...query, state: { data: undefined } }, keys.older("lockstep", 3))).toBe(false);
  expect(holds({ ...query, queryKey: keys.strip("lockstep", "main") }, keys.older("lockstep", 3))).toBe(false);
});

test("after a reconnect everything that is shown is asked for again, once", () => {
  vi.useFakeTimers();
  const streams: { onopen?: () => void; onerror?: () => void; close: () => void; addEventListener: (name: string, heard: () => void) => void; alive?: () => void; closed?: boolean }[] = [];
  vi.stubGlobal("EventSource", function (this: (typeof streams)[number]) {
    this.close = () => (this.closed = true);
    this.addEventListener = (_, heard) => (this.alive = heard);
    streams.push(this);
  });
  vi.stubGlobal("BroadcastChannel", function (this: Record<string, unknown>) {
    Object.assign(this, { postMessage: () => undefined, close: () => undefined });
  });
  vi.stubGlobal("navigator", {}); // without locks it listens for itself
  const invalidateQueries = vi.fn(() => Promise.resolve());
  const stop = new AbortController();
  const said: boolean[] = [];
  onConnection((now) => said.push(now));
  listen({ invalidateQueries } as unknown as QueryClient, stop.signal);
  const stream = streams[0];
  if (stream === undefined) throw new Error("no stream was opened");
  stream.onopen?.();
  expect(invalidateQueries).not.toHaveBeenCalled(); // what changed while the page loaded comes with the stream
  stream.onerror?.();
  stream.onerror?.();
  expect([said, isConnected()]).toEqual([[false], false]);
  stream.onopen?.();
  stream.onopen?.();
  expect([said, isConnected()]).toEqual([[false, true], true]);
  expect(invalidateQueries.mock.calls).toEqual([[]]);
  // an open line that says nothing is lost, and another one is tried; a sign of life is enough
  vi.advanceTimersByTime(15_000);
  stream.alive?.();
  vi.advanceTimersByTime(15_000);
  expect([isConnected(), streams.length]).toEqual([true, 1]);
  vi.advanceTimersByTime(6_000);
  expect([isConnected(), stream.closed, streams.length]).toEqual([false, true, 2]);
  streams[1]?.onopen?.();
  expect(isConnected()).toBe(true);
  stop.abort();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});
