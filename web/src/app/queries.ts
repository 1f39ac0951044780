/** The questions that screens ask the server. */
import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, taken, type WantedEvent } from "../api/client";

export const meQuery = queryOptions({
  queryKey: ["me"],
  queryFn: () => taken(api.GET("/api/v1/me")),
  retry: false,
  staleTime: Infinity,
});

export const projectsQuery = queryOptions({ queryKey: ["projects"], queryFn: () => taken(api.GET("/api/v1/projects")) });

export const deskQuery = queryOptions({ queryKey: ["desk"], queryFn: () => taken(api.GET("/api/v1/desk")), placeholderData: keepPreviousData });

export const pulseQuery = queryOptions({
  queryKey: ["pulse"],
  queryFn: () => taken(api.GET("/api/v1/pulse")),
  refetchInterval: 30_000,
});

export const stripQuery = (project: string, branch: string | undefined) =>
  queryOptions({
    queryKey: ["strip", project, branch ?? ""],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/strip", { params: { path: { project }, query: { branch, limit: 80 } } })),
    placeholderData: keepPreviousData,
  });

export const historyQuery = (project: string, branch: string | undefined, before: number | undefined, limit: number) =>
  queryOptions({
    queryKey: ["history", project, branch ?? "", before ?? 0, limit],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/strip", { params: { path: { project }, query: { branch, before, limit } } })),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });

export const runQuery = (project: string, number: number) =>
  queryOptions({
    queryKey: ["run", project, number],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/runs/{number}", { params: { path: { project, number } } })),
  });

export const findingsQuery = (project: string, number: number, base: number | undefined) =>
  queryOptions({
    queryKey: ["run", project, number, "findings", base ?? 0],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/runs/{number}/findings", { params: { path: { project, number }, query: { base } } })),
  });

export const changesQuery = (project: string, number: number, test: number) =>
  queryOptions({
    queryKey: ["run", project, number, "changes", test],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/runs/{number}/tests/{test}/changes", { params: { path: { project, number, test } } })),
    retry: false,
    staleTime: 60_000,
  });

export const searchQuery = (project: string, number: number, test: number) =>
  queryOptions({
    queryKey: ["run", project, number, "search", test],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/runs/{number}/tests/{test}/search", { params: { path: { project, number, test } } })),
    retry: false,
    refetchInterval: (query) => (query.state.data?.state === "running" ? 3000 : false),
  });

export const fileQuery = (project: string, commit: string, path: string) =>
  queryOptions({
    queryKey: ["file", project, commit, path],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/file", { params: { path: { project }, query: { commit, path } } })),
    retry: false,
    staleTime: Infinity,
  });

export interface TestsWanted {
  base: number | undefined;
  state: string;
  search: string;
  slower: number | undefined;
  cells: string[];
}

export const testsQuery = (project: string, number: number, wanted: TestsWanted, offset: number, limit: number) =>
  queryOptions({
    queryKey: ["run", project, number, "tests", wanted, offset, limit],
    queryFn: () =>
      taken(
        api.GET("/api/v1/projects/{project}/runs/{number}/tests", {
          params: { path: { project, number }, query: { base: wanted.base, state: wanted.state, search: wanted.search, slower_than: wanted.slower, cell: wanted.cells, offset, limit } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

export const testQuery = (project: string, test: number) =>
  queryOptions({
    queryKey: ["test", project, test],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/tests/{test}", { params: { path: { project, test } } })),
    placeholderData: keepPreviousData,
  });

export const kindsQuery = (project: string) =>
  queryOptions({
    queryKey: ["kinds", project],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/kinds", { params: { path: { project } } })),
  });

export const flakyQuery = (project: string) =>
  queryOptions({
    queryKey: ["flaky", project],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/flaky", { params: { path: { project } } })),
  });

export const attemptQuery = (attempt: number) =>
  queryOptions({
    queryKey: ["attempt", attempt],
    queryFn: () => taken(api.GET("/api/v1/attempts/{attempt}", { params: { path: { attempt } } })),
    placeholderData: keepPreviousData,
  });

export const recordQuery = (attempt: number) =>
  queryOptions({
    queryKey: ["attempt", attempt, "record"],
    queryFn: () => taken(api.GET("/api/v1/attempts/{attempt}/record", { params: { path: { attempt } } })),
    placeholderData: keepPreviousData,
  });

export const differenceQuery = (attempt: number, other: number | undefined) =>
  queryOptions({
    queryKey: ["attempt", attempt, "difference", other ?? 0],
    queryFn: () => taken(api.GET("/api/v1/attempts/{attempt}/machine-difference", { params: { path: { attempt }, query: { other } } })),
    retry: false,
  });

export const timelineQuery = (project: string, number: number) =>
  queryOptions({
    queryKey: ["run", project, number, "timeline"],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/runs/{number}/timeline", { params: { path: { project, number } } })),
    placeholderData: keepPreviousData,
  });

export const queueQuery = queryOptions({
  queryKey: ["pulse", "queue"],
  queryFn: () => taken(api.GET("/api/v1/queue")),
  refetchInterval: 10_000,
  placeholderData: keepPreviousData,
});

export const runnersQuery = queryOptions({
  queryKey: ["runners"],
  queryFn: () => taken(api.GET("/api/v1/runners")),
  refetchInterval: 10_000,
  placeholderData: keepPreviousData,
});

export const secretsQuery = (project: string) =>
  queryOptions({
    queryKey: ["secrets", project],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/secrets", { params: { path: { project } } })),
  });

export const cachesQuery = (project: string) =>
  queryOptions({
    queryKey: ["caches", project],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/caches", { params: { path: { project } } })),
  });

export const wordsQuery = queryOptions({ queryKey: ["words"], queryFn: () => taken(api.GET("/api/v1/plan/words")), staleTime: 60_000 });

export const standingQuery = (project: string, branch: string | undefined) =>
  queryOptions({
    queryKey: ["standing", project, branch ?? ""],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/plan", { params: { path: { project }, query: { branch } } })),
    refetchOnWindowFocus: false,
  });

export const meaningQuery = (project: string, text: string, event: WantedEvent | undefined) =>
  queryOptions({
    queryKey: ["meaning", project, text, event],
    queryFn: () => taken(api.POST("/api/v1/projects/{project}/plan/meaning", { params: { path: { project } }, body: { text, event } })),
    placeholderData: keepPreviousData,
    staleTime: 10_000,
    gcTime: 10_000,
  });

export const proposalsQuery = (project: string, branch: string | undefined) =>
  queryOptions({
    queryKey: ["proposals", project, branch ?? ""],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/proposals", { params: { path: { project }, query: { branch } } })),
    refetchOnWindowFocus: false,
  });

export const comingQuery = (project: string) =>
  queryOptions({
    queryKey: ["coming", project],
    queryFn: () => taken(api.GET("/api/v1/projects/{project}/coming", { params: { path: { project } } })),
  });
