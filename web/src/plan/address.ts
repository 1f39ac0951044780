/** The workbench's state in the address, so that a link shows a colleague the same rehearsal. */
import { useCallback, useMemo } from "react";
import { useLocation, useNavigate } from "react-router";
import type { WantedEvent } from "../api/client";

export const views = ["text", "forms", "difference"] as const;
export type View = (typeof views)[number];

export interface PlanAddress {
  project: string;
  branch: string | undefined;
  view: View;
  line: number | undefined;
  first: boolean;
  event: WantedEvent | undefined;
}

export function readPlanAddress(path: string, search: string): PlanAddress {
  const query = new URLSearchParams(search);
  const kind = query.get("event");
  const list = (key: string) => query.get(key)?.split(",").filter(Boolean) ?? null;
  return {
    project: decodeURIComponent(/^\/p\/([^/]+)/.exec(path)?.[1] ?? ""),
    branch: query.get("branch") ?? undefined,
    view: views.find((v) => v === query.get("view")) ?? "text",
    line: Number(query.get("line")) || undefined,
    first: query.get("first") === "1",
    event: kind
      ? {
          kind, branch: query.get("on") ?? "", source: query.get("from") ?? "", tag: query.get("tag") ?? "",
          schedule: query.get("schedule") ?? "", changed: list("changed"), jobs: list("jobs"), cells: query.get("cells") ?? "",
        }
      : undefined,
  }; // prettier-ignore
}

export function writtenPlan(a: PlanAddress): string {
  const query = new URLSearchParams();
  if (a.branch) query.set("branch", a.branch);
  if (a.view !== "text") query.set("view", a.view);
  if (a.first) query.set("first", "1");
  if (a.line) query.set("line", String(a.line));
  const e = a.event;
  if (e) {
    query.set("event", e.kind);
    const pairs: [string, string | undefined][] = [
      ["on", e.branch], ["from", e.source], ["tag", e.tag], ["schedule", e.schedule], ["changed", e.changed?.join(",")], ["jobs", e.jobs?.join(",")], ["cells", e.cells],
    ]; // prettier-ignore
    for (const [key, value] of pairs) if (value) query.set(key, value);
  }
  const tail = query.toString();
  return `/p/${encodeURIComponent(a.project)}/plan${tail ? `?${tail}` : ""}`;
}

export function usePlanAddress(): [PlanAddress, (change: Partial<PlanAddress>) => void] {
  const { pathname, search } = useLocation();
  const navigate = useNavigate();
  const address = useMemo(() => readPlanAddress(pathname, search), [pathname, search]);
  const go = useCallback(
    (change: Partial<PlanAddress>) => {
      const { pathname, search } = window.location;
      void navigate(writtenPlan({ ...readPlanAddress(pathname, search), ...change }), { replace: true });
    },
    [navigate],
  );
  return [address, go];
}
