/** The questions that screens ask the server. */
import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, taken, type WantedEvent } from "../api/client";

/** The names that answers are kept under; what begins with a name is refreshed with it. */
export const keys = {
  me: () => ["me"],
  projects: () => ["projects"],
  desk: () => ["desk"],
  pulse: () => ["pulse"],
  passes: () => ["passes"],
  queue: () => ["pulse", "queue"],
  runners: () => ["runners"],
  words: () => ["words"],
  strip: (project: string, branch?: string) => ["strip", project, ...(branch === undefined ? [] : [branch])],
  history: (project: string, branch: string, before: number) => ["history", project, branch, before],
  /** No key of a query: pieces of history that hold this run (live.ts). */
  older: (project: string, run: number) => ["older", project, run],
  run: (project: string, number?: number, ...of: unknown[]) => ["run", project, ...(number === undefined ? [] : [number]), ...of],
  file: (project: string, commit: string, path: string) => ["file", project, commit, path],
  test: (project: string, test?: number) => ["test", project, ...(test === undefined ? [] : [test])],
  kinds: (project: string) => ["kinds", project],
  flaky: (project: string) => ["flaky", project],
  secrets: (project: string) => ["secrets", project],
  foreign: (project: string) => ["foreign", project],
  caches: (project: string) => ["caches", project],
  audit: (project: string) => ["audit", project],
  morning: (project: string) => ["morning", project],
  cost: (project: string) => ["cost", project],
  rankings: (project: string) => ["rankings", project],
  releases: (project: string) => ["releases", project],
  waivers: (project: string) => ["waivers", project],
  filters: (project: string) => ["filters", project],
  kept: (project: string, days?: number) => ["kept", project, ...(days === undefined ? [] : [days])],
  ways: (project: string, of?: string) => ["ways", project, ...(of === undefined ? [] : [of])],
  templateValues: () => ["template-values"],
  attempt: (attempt?: number, ...of: unknown[]) => ["attempt", ...(attempt === undefined ? [] : [attempt]), ...of],
  log: (attempt?: number) => ["log", ...(attempt === undefined ? [] : [attempt])],
  standing: (project?: string, branch?: string) => ["standing", ...(project === undefined ? [] : [project, branch ?? ""])],
  meaning: (project: string, text: string, event: unknown) => ["meaning", project, text, event],
  proposals: (project?: string, branch?: string) => ["proposals", ...(project === undefined ? [] : [project, branch ?? ""])],
  coming: (project?: string) => ["coming", ...(project === undefined ? [] : [project])],
};

export const meQuery = queryOptions({
  queryKey: keys.me(),
  queryFn: ({ signal }) => taken(api.GET("/api/v1/me", { signal })),
  retry: false,
  staleTime: Infinity,
});

export const projectsQuery = queryOptions({ queryKey: keys.projects(), queryFn: ({ signal }) => taken(api.GET("/api/v1/projects", { signal })) });

export const deskQuery = queryOptions({ queryKey: keys.desk(), queryFn: ({ signal }) => taken(api.GET("/api/v1/desk", { signal })), placeholderData: keepPreviousData });

export const passesQuery = queryOptions({
  queryKey: keys.passes(),
  queryFn: ({ signal }) => taken(api.GET("/api/v1/runner-tokens", { signal })),
});

export const pulseQuery = queryOptions({
  queryKey: keys.pulse(),
  queryFn: ({ signal }) => taken(api.GET("/api/v1/pulse", { signal })),
  refetchInterval: 30_000,
});

export const stripQuery = (project: string, branch: string | undefined) =>
  queryOptions({
    queryKey: keys.strip(project, branch ?? ""),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/strip", { signal, params: { path: { project }, query: { branch, limit: 80 } } })),
    placeholderData: keepPreviousData,
  });

/** What came before run `anchor`, in pieces: each goes on where the one before ended. */
export const historyQuery = (project: string, branch: string | undefined, anchor: number | undefined) =>
  infiniteQueryOptions({
    queryKey: keys.history(project, branch ?? "", anchor ?? 0),
    queryFn: ({ signal, pageParam: before }) =>
      taken(api.GET("/api/v1/projects/{project}/strip", { signal, params: { path: { project }, query: { branch, before, limit: 300 } } })),
    initialPageParam: anchor,
    getNextPageParam: (piece) => (piece.more ? piece.columns[0]?.run.number : undefined),
    staleTime: Infinity,
  });

export const runQuery = (project: string, number: number) =>
  queryOptions({
    queryKey: keys.run(project, number),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/runs/{number}", { signal, params: { path: { project, number } } })),
  });

export const findingsQuery = (project: string, number: number, base: number | undefined) =>
  queryOptions({
    queryKey: keys.run(project, number, "findings", base ?? 0),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/runs/{number}/findings", { signal, params: { path: { project, number }, query: { base } } })),
  });

export const differenceOfRunQuery = (project: string, number: number, base: number | undefined) =>
  queryOptions({
    queryKey: keys.run(project, number, "difference", base ?? 0),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/runs/{number}/difference", { signal, params: { path: { project, number }, query: { base } } })),
    retry: false,
    staleTime: 60_000,
  });

export const changesQuery = (project: string, number: number, test: number, finding: string) =>
  queryOptions({
    queryKey: keys.run(project, number, "changes", test, finding),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/runs/{number}/tests/{test}/changes", { signal, params: { path: { project, number, test }, query: { finding } } })),
    retry: false,
    staleTime: 60_000,
  });

export const morningQuery = (project: string) =>
  queryOptions({
    queryKey: keys.morning(project),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/morning", { signal, params: { path: { project }, query: { zone: Intl.DateTimeFormat().resolvedOptions().timeZone } } })),
  });

export const foreignQuery = (project: string) =>
  queryOptions({ queryKey: keys.foreign(project), queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/foreign-events", { signal, params: { path: { project } } })) });

export const releasesQuery = (project: string) =>
  queryOptions({ queryKey: keys.releases(project), queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/releases", { signal, params: { path: { project } } })) });

export const rankingsQuery = (project: string) =>
  queryOptions({ queryKey: keys.rankings(project), queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/rankings", { signal, params: { path: { project } } })) });

export const costQuery = (project: string) =>
  queryOptions({ queryKey: keys.cost(project), queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/cost", { signal, params: { path: { project } } })) });

export const filtersQuery = (project: string) =>
  queryOptions({ queryKey: keys.filters(project), queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/filters", { signal, params: { path: { project } } })) });

export const waiversQuery = (project: string) =>
  queryOptions({ queryKey: keys.waivers(project), queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/waivers", { signal, params: { path: { project } } })) });

export const searchQuery = (project: string, number: number, test: number, finding: string) =>
  queryOptions({
    queryKey: keys.run(project, number, "search", test, finding),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/runs/{number}/tests/{test}/search", { signal, params: { path: { project, number, test }, query: { finding } } })),
    retry: false,
    refetchInterval: (query) => (query.state.data?.state === "running" ? 3000 : false),
  });

export const fileQuery = (project: string, commit: string, path: string) =>
  queryOptions({
    queryKey: keys.file(project, commit, path),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/file", { signal, params: { path: { project }, query: { commit, path } } })),
    retry: false,
    staleTime: Infinity,
  });

export const filesQuery = (project: string, commit: string, search: string) =>
  queryOptions({
    queryKey: keys.file(project, commit, `?${search}`),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/files", { signal, params: { path: { project }, query: { commit, search } } })),
    staleTime: 60_000,
  });

export const coverageQuery = (project: string, number: number, job: string, base?: number) =>
  queryOptions({
    queryKey: keys.run(project, number, "coverage", job, base ?? 0),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/runs/{number}/coverage", { signal, params: { path: { project, number }, query: { job, base } } })),
    retry: false,
  });

export const coverageTrendQuery = (project: string, folder: string, job: string) =>
  queryOptions({
    queryKey: [...keys.strip(project), "coverage-trend", folder, job],
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/coverage-trend", { signal, params: { path: { project }, query: { folder, job } } })),
    placeholderData: keepPreviousData,
  });

export const coverageByCellQuery = (project: string, number: number, job: string) =>
  queryOptions({
    queryKey: keys.run(project, number, "coverage-cells", job),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/runs/{number}/coverage/cells", { signal, params: { path: { project, number }, query: { job } } })),
    retry: false,
  });

export const coverageFileQuery = (project: string, number: number, path: string, job: string, base?: number) =>
  queryOptions({
    queryKey: keys.run(project, number, "coverage", job, base ?? 0, path),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/runs/{number}/coverage/file", { signal, params: { path: { project, number }, query: { path, job, base } } })),
    retry: false,
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
    queryKey: keys.run(project, number, "tests", wanted, offset, limit),
    queryFn: ({ signal }) =>
      taken(
        api.GET("/api/v1/projects/{project}/runs/{number}/tests", { signal, params: { path: { project, number }, query: { base: wanted.base, state: wanted.state, search: wanted.search, slower_than: wanted.slower, cell: wanted.cells, offset, limit } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

export const testQuery = (project: string, test: number) =>
  queryOptions({
    queryKey: keys.test(project, test),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/tests/{test}", { signal, params: { path: { project, test } } })),
    placeholderData: keepPreviousData,
  });

export const kindsQuery = (project: string) =>
  queryOptions({
    queryKey: keys.kinds(project),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/kinds", { signal, params: { path: { project } } })),
  });

export const flakyQuery = (project: string) =>
  queryOptions({
    queryKey: keys.flaky(project),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/flaky", { signal, params: { path: { project } } })),
  });

export const attemptQuery = (attempt: number) =>
  queryOptions({
    queryKey: keys.attempt(attempt),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/attempts/{attempt}", { signal, params: { path: { attempt } } })),
    placeholderData: keepPreviousData,
  });

export const recordQuery = (attempt: number) =>
  queryOptions({
    queryKey: keys.attempt(attempt, "record"),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/attempts/{attempt}/record", { signal, params: { path: { attempt } } })),
    placeholderData: keepPreviousData,
  });

export const differenceQuery = (attempt: number, other: number | undefined) =>
  queryOptions({
    queryKey: keys.attempt(attempt, "difference", other ?? 0),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/attempts/{attempt}/machine-difference", { signal, params: { path: { attempt }, query: { other } } })),
    retry: false,
  });

export const timelineQuery = (project: string, number: number) =>
  queryOptions({
    queryKey: keys.run(project, number, "timeline"),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/runs/{number}/timeline", { signal, params: { path: { project, number } } })),
    placeholderData: keepPreviousData,
  });

export const queueQuery = queryOptions({
  queryKey: keys.queue(),
  queryFn: ({ signal }) => taken(api.GET("/api/v1/queue", { signal })),
  refetchInterval: 10_000,
  placeholderData: keepPreviousData,
});

export const runnersQuery = queryOptions({
  queryKey: keys.runners(),
  queryFn: ({ signal }) => taken(api.GET("/api/v1/runners", { signal })),
  refetchInterval: 10_000,
  placeholderData: keepPreviousData,
});

export const secretsQuery = (project: string) =>
  queryOptions({
    queryKey: keys.secrets(project),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/secrets", { signal, params: { path: { project } } })),
  });

export const cachesQuery = (project: string) =>
  queryOptions({
    queryKey: keys.caches(project),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/caches", { signal, params: { path: { project } } })),
  });

export const wordsQuery = queryOptions({ queryKey: keys.words(), queryFn: ({ signal }) => taken(api.GET("/api/v1/plan/words", { signal })), staleTime: 60_000 });

export const standingQuery = (project: string, branch: string | undefined) =>
  queryOptions({
    queryKey: keys.standing(project, branch),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/plan", { signal, params: { path: { project }, query: { branch } } })),
    refetchOnWindowFocus: false,
  });

export const meaningQuery = (project: string, text: string, event: WantedEvent | undefined) =>
  queryOptions({
    queryKey: keys.meaning(project, text, event),
    queryFn: ({ signal }) => taken(api.POST("/api/v1/projects/{project}/plan/meaning", { signal, params: { path: { project } }, body: { text, event } })),
    placeholderData: keepPreviousData,
    staleTime: 10_000,
    gcTime: 10_000,
  });

export const replayQuery = (project: string, text: string, branch: string | undefined, runs: number) =>
  queryOptions({
    queryKey: keys.meaning(project, text, `replay ${branch ?? ""} ${runs}`),
    queryFn: ({ signal }) => taken(api.POST("/api/v1/projects/{project}/plan/replay", { signal, params: { path: { project } }, body: { text, branch, runs } })),
    placeholderData: keepPreviousData,
    staleTime: 10_000,
    gcTime: 10_000,
  });

export const proposalsQuery = (project: string, branch: string | undefined) =>
  queryOptions({
    queryKey: keys.proposals(project, branch),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/proposals", { signal, params: { path: { project }, query: { branch } } })),
    refetchOnWindowFocus: false,
  });

export const comingQuery = (project: string) =>
  queryOptions({
    queryKey: keys.coming(project),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/coming", { signal, params: { path: { project } } })),
  });

export const keptQuery = (project: string) =>
  queryOptions({
    queryKey: keys.kept(project),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/kept", { signal, params: { path: { project } } })),
  });

export const freedQuery = (project: string, days: number) =>
  queryOptions({
    queryKey: keys.kept(project, days),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/keeping", { signal, params: { path: { project }, query: { days } } })),
  });

export const drillQuery = (project: string) =>
  queryOptions({
    queryKey: keys.strip(project, "drill"),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/drill", { signal, params: { path: { project } } })),
  });

export const pullsQuery = (project: string, closed: boolean) =>
  queryOptions({
    queryKey: keys.strip(project, `pulls ${String(closed)}`),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/pull-requests", { signal, params: { path: { project }, query: { closed } } })),
    placeholderData: keepPreviousData,
  });

export const trendsQuery = (project: string, branch: string | undefined, runs: number) =>
  queryOptions({
    queryKey: keys.strip(project, `trends ${branch ?? ""} ${runs}`),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/trends", { signal, params: { path: { project }, query: { branch, runs } } })),
    placeholderData: keepPreviousData,
  });

export const versionsQuery = (project: string, runs: number) =>
  queryOptions({
    queryKey: keys.strip(project, `versions ${runs}`),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/versions", { signal, params: { path: { project }, query: { runs } } })),
    placeholderData: keepPreviousData,
  });

export const fewerQuery = (project: string) =>
  queryOptions({
    queryKey: keys.strip(project, "fewer"),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/fewer", { signal, params: { path: { project } } })),
  });

export interface ReportAsked {
  days?: number;
  branch?: string;
  beside?: string;
  release?: string;
}

export const reportQuery = (project: string, asked: ReportAsked) =>
  queryOptions({
    queryKey: keys.strip(project, `report ${JSON.stringify(asked)}`),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/report", { signal, params: { path: { project }, query: asked } })),
    placeholderData: keepPreviousData,
  });

export const twoValuesQuery = (project: string, asked: { job: string; dimension: string; one: string; other: string }) =>
  queryOptions({
    queryKey: keys.strip(project, `beside ${JSON.stringify(asked)}`),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/versions/beside", { signal, params: { path: { project }, query: asked } })),
  });

export const sizesQuery = queryOptions({
  queryKey: ["sizes"],
  queryFn: ({ signal }) => taken(api.GET("/api/v1/sizes", { signal })),
});

export const whatIfQuery = (project: string, asked: { job: string; dimension: string; value: string; change: string }) =>
  queryOptions({
    queryKey: keys.strip(project, `what if ${JSON.stringify(asked)}`),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/versions/what-if", { signal, params: { path: { project }, query: asked } })),
  });

export const marksQuery = (project: string, run: number, base: number | undefined) =>
  queryOptions({
    queryKey: [...keys.run(project, run), "marks", base],
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/runs/{number}/marks", { signal, params: { path: { project, number: run }, query: { base: base ?? 0 } } })),
    enabled: base !== undefined,
  });

export type RunsWanted = { text?: string; verdict?: "clear" | "held" | "undecided" | "exempt" | "none"; event?: "push" | "pull-request" | "tag" | "schedule" | "manual" | "upload"; branch?: string };

export const pastQuery = (project: string, wanted: RunsWanted, before: number | undefined) =>
  queryOptions({
    queryKey: keys.strip(project, `past ${JSON.stringify(wanted)} ${before ?? ""}`),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/runs", { signal, params: { path: { project }, query: { ...wanted, before } } })),
    placeholderData: keepPreviousData,
  });

export const failuresQuery = (project: string, text: string, days: number) =>
  queryOptions({
    queryKey: keys.strip(project, `failures ${days} ${text}`),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/failures", { signal, params: { path: { project }, query: { text, days } } })),
    placeholderData: keepPreviousData,
    enabled: text.trim().length >= 3,
  });

/** Which logs have a text: each page goes on where the one before stopped. */
export const logsQuery = (project: string, text: string, days: number) =>
  infiniteQueryOptions({
    queryKey: keys.strip(project, `logs ${days} ${text}`),
    queryFn: ({ signal, pageParam }) => taken(api.GET("/api/v1/projects/{project}/logs", { signal, params: { path: { project }, query: { text, days, before: pageParam } } })),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => last.before ?? undefined,
    placeholderData: keepPreviousData,
    enabled: text.trim().length >= 3,
  });

export const artifactsQuery = (project: string, text: string) =>
  infiniteQueryOptions({
    queryKey: keys.strip(project, `artifacts ${text}`),
    queryFn: ({ signal, pageParam }) => taken(api.GET("/api/v1/projects/{project}/artifacts", { signal, params: { path: { project }, query: { text, before: pageParam } } })),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => last.before ?? undefined,
    placeholderData: keepPreviousData,
  });

export const waysQuery = (project: string) =>
  queryOptions({
    queryKey: keys.ways(project),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/ways", { signal, params: { path: { project } } })),
  });

export const hearersQuery = (project: string) =>
  queryOptions({
    queryKey: keys.ways(project, "hearers"),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/hearers", { signal, params: { path: { project } } })),
  });

export const templateValuesQuery = queryOptions({ queryKey: keys.templateValues(), queryFn: ({ signal }) => taken(api.GET("/api/v1/template-values", { signal })), staleTime: Infinity });

export const sentQuery = (project: string, run: number | undefined) =>
  queryOptions({
    queryKey: run === undefined ? keys.ways(project, "sent") : keys.run(project, run, "sent"),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/sent", { signal, params: { path: { project }, query: { run } } })),
  });

export const auditQuery = (project: string) =>
  queryOptions({
    queryKey: keys.audit(project),
    queryFn: ({ signal }) => taken(api.GET("/api/v1/projects/{project}/audit", { signal, params: { path: { project } } })),
  });
