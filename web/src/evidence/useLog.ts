import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { api, taken, type LogLine, type Usual } from "../api/client";
import { keys } from "../app/queries";

export const PAGE = 400;
const KEPT = 30_000; // milliseconds that a page out of view is kept

export interface LogState {
  size: number;
  lines: number;
  complete: boolean;
}

/** How long a log is now, and what of it is usual. */
export function useLogState(attempt: number): { state: LogState | undefined; usual: Usual | undefined } {
  const state = useQuery({
    queryKey: [...keys.log(attempt), "state"],
    queryFn: async ({ signal }) => (await taken(api.GET("/api/v1/attempts/{attempt}/log/lines", { signal, params: { path: { attempt }, query: { count: 0 } } }))).state,
    staleTime: 0,
    placeholderData: keepPreviousData,
  }).data;
  const usual = useQuery({
    queryKey: ["usual", attempt, state?.complete ?? false, state?.complete ? state.size : 0],
    queryFn: ({ signal }) => taken(api.GET("/api/v1/attempts/{attempt}/log/usual", { signal, params: { path: { attempt } } })),
    enabled: state !== undefined,
    refetchInterval: state && !state.complete && state.lines < 20_000 ? 3000 : false,
    placeholderData: keepPreviousData,
  }).data;
  return { state, usual };
}

/** The lines of some pages, by line number; pages out of view are forgotten, so that a page of any log stays small. */
export function useLines(attempt: number, pages: number[], state: LogState): Map<number, LogLine> {
  const answers = useQueries({
    queries: pages.map((page) => {
      const full = (page + 1) * PAGE < state.lines || state.complete;
      return {
        queryKey: ["logpage", attempt, page, full ? "full" : state.size],
        queryFn: async ({ signal }) =>
          (await taken(api.GET("/api/v1/attempts/{attempt}/log/lines", { signal, params: { path: { attempt }, query: { first: page * PAGE + 1, count: PAGE } } }))).lines,
        staleTime: Infinity,
        gcTime: full ? KEPT : 0,
        placeholderData: keepPreviousData,
      };
    }),
  });
  const found = new Map<number, LogLine>();
  for (const answer of answers) for (const line of answer.data ?? []) found.set(line.number, line);
  return found;
}

export function useSearch(attempt: number, text: string, state: LogState | undefined) {
  return useQuery({
    queryKey: ["search", attempt, text, state?.size ?? 0],
    queryFn: ({ signal }) => taken(api.GET("/api/v1/attempts/{attempt}/log/search", { signal, params: { path: { attempt }, query: { text } } })),
    enabled: text !== "",
    placeholderData: keepPreviousData,
  }).data;
}
