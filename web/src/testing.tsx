/** Parts of the interface as the application shows them, for tests beside the components: providers, an address, answers. */
import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, configure, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import type { ReactNode } from "react";
import { MemoryRouter, Route, Routes, useLocation } from "react-router";
import { afterEach, vi } from "vitest";
import type { Cell, Finding, Run } from "./api/client";

configure({ asyncUtilTimeout: 60_000 }); // states are waited for, however slow the machine is

interface Call {
  method: string;
  path: string;
  body: unknown;
}

interface Wish {
  at?: string;
  route?: string;
  answers?: Record<string, unknown>;
}

/** `answers` are given by "METHOD /path"; a number is a refusal with that status, anything else the body. */
export function shown(ui: ReactNode, { at = "/p/lockstep/runs/2", route = "*", answers = {} }: Wish = {}) {
  const calls: Call[] = [];
  vi.stubGlobal("matchMedia", () => ({ matches: false, addEventListener: () => undefined, removeEventListener: () => undefined, addListener: () => undefined, removeListener: () => undefined }));
  vi.stubGlobal("ResizeObserver", class { observe() {} unobserve() {} disconnect() {} }); // prettier-ignore
  Object.defineProperty(document, "fonts", { configurable: true, value: { ready: Promise.resolve(), addEventListener: () => undefined, removeEventListener: () => undefined } });
  vi.stubGlobal("fetch", async (request: Request) => {
    const url = new URL(request.url, "http://here");
    const text = request.method === "GET" ? "" : await request.text();
    calls.push({ method: request.method, path: url.pathname + url.search, body: text ? (JSON.parse(text) as unknown) : null });
    const answer = answers[`${request.method} ${url.pathname}`];
    if (typeof answer === "number" || answer === undefined) {
      const status = answer ?? 404;
      return new Response(JSON.stringify({ detail: `refused with ${status}` }), { status, headers: { "Content-Type": "application/problem+json" } });
    }
    return answer === null ? new Response(null, { status: 204 }) : new Response(JSON.stringify(answer), { headers: { "Content-Type": "application/json" } });
  });
  window.history.replaceState(null, "", at);
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  render(
    <MantineProvider env="test">
      <QueryClientProvider client={client}>
        <MemoryRouter initialEntries={[at]}>
          <Routes>
            <Route path={route} element={ui} />
            <Route path="*" element={null} />
          </Routes>
          <Where />
        </MemoryRouter>
      </QueryClientProvider>
    </MantineProvider>,
  );
  const changes = () => calls.filter((c) => c.method !== "GET");
  /** What was sent to change something, when there is so much of it. */
  const written = (least = 1) =>
    waitFor(() => {
      if (changes().length < least) throw new Error(`${changes().length} of ${least} requests were sent`);
      return changes();
    });
  return { user: userEvent.setup({ delay: null }), calls, written, client };
}

/** Where the reader is, so that tests can ask. */
function Where() {
  const { pathname, search } = useLocation();
  return <output data-testid="where">{pathname + search}</output>;
}

export const where = () => screen.getByTestId("where").textContent;

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
  localStorage.clear();
});

export const cell = (job: string, values: Record<string, string>, more: Partial<Cell> = {}): Cell =>
  ({ id: Math.random(), job, job_title: job, key: Object.entries(values).map(([k, v]) => `${k}=${v}`).join(","), values, advisory: false, state: "passed", mark: "passed", reason: "", selected: true, gated: false, housekeeping: false, stuck: false, failed: 0, errored: 0, ...more }) as Cell; // prettier-ignore

export const run = (more: Partial<Run> = {}): Run =>
  ({
    project: "lockstep", cells: [], judged: [], problems: [], approvals: [], accepted: [], acceptable: { loosened: [], tests: [] }, controls: [], left_out: [], taken: [], reason: "", tested: "c0ffee", open: false,
    run: { number: 2, commit: "c0ffee", title: "Draw the ruler", author: "Ada", verdict: "held", sentence: "Held: 1 test newly fails.", at: "2026-11-27T08:00:00Z" },
    ...more,
  }) as unknown as Run; // prettier-ignore

export const finding = (more: Partial<Finding> = {}): Finding =>
  ({
    id: "s1", title: "gauge › rises", headline: "expected 3", exception: "", because: "", job: "unit", mark: "new", outcome: "failed", setup: false, message: "expected 3, got 4", detail: "", output: "", expected: null, actual: null, where: null, or_where: null, back_since: null, where_sure: true, silent: [], missed: 0, rivals: [], next_cell: null, ran_in: 2, control: null, repeated: null, told: null, first_seen: null, seen: 1, taken: null, places: [],
    tests: [{ test: 7, title: "gauge › rises", kind: "unit", suite: "gauge", mark: "new", cells: 1, control: null }],
    more_tests: 0,
    cells: [{ job: "unit", key: "lua=5.1", attempt_id: 4, mark: "new", outcome: "failed", tests: 1, seconds: 0.2 }],
    attachments: [], ...more,
  }); // prettier-ignore
