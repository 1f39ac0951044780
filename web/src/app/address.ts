/** View state lives in the address, so that a link shows a colleague the same thing. */
import { useCallback, useMemo } from "react";
import { useLocation, useNavigate } from "react-router";

export const sections = ["findings", "matrix", "tests", "coverage", "evidence", "sent"] as const;
/** A section of the row, or what the commit changed, which its title opens. */
export type Section = (typeof sections)[number] | "change";

export interface Address {
  project: string;
  /** The selected run; undefined follows the newest. */
  run: number | undefined;
  section: Section;
  branch: string | undefined;
  base: number | undefined;
  /** Selected cells as "job/key". */
  cells: string[];
  /** The opened finding by its signature; empty when the reader closed what was open. */
  finding: string | undefined;
  /** Which tests the section Tests shows. */
  state: string;
  search: string;
  slower: number | undefined;
  line: number | undefined;
  /** What of a cell's evidence is shown. */
  view: EvidenceView;
  /** An earlier attempt or a control run, when it is not the cell's newest attempt. */
  attempt: number | undefined;
  /** Whose coverage the section Coverage shows, and the file that is open in it. */
  job: string;
  file: string | undefined;
  list: boolean;
  coverage: boolean;
  /** Dimensions on the rows of the Matrix, and those with one table a value; undefined is the usual arrangement. */
  rows: string[] | undefined;
  tables: string[];
  show: Show;
}

export const evidenceViews = ["log", "timeline", "settings", "machine", "files"] as const;
export type EvidenceView = (typeof evidenceViews)[number];

export const shows = ["outcome", "duration", "coverage", "waiting"] as const;
export type Show = (typeof shows)[number];

const number = (text: string | null | undefined) => (text && /^\d+$/.test(text) ? Number(text) : undefined);

/** What an address selects. */
export function readAddress(path: string, search: string): Address {
  const [, project, run] = /^\/p\/([^/]+)(?:\/runs\/([^/]+))?/.exec(path) ?? [];
  const query = new URLSearchParams(search);
  const section = query.get("section");
  return {
    project: decoded(project ?? ""),
    run: number(run),
    section: section === "change" ? section : (sections.find((s) => s === section) ?? "findings"),
    branch: query.get("branch") ?? undefined,
    base: number(query.get("base")),
    cells: query.getAll("cell"),
    finding: query.get("finding") ?? undefined,
    state: query.get("state") ?? "not-passed",
    search: query.get("search") ?? "",
    slower: number(query.get("slower")),
    line: number(query.get("line")),
    view: evidenceViews.find((v) => v === query.get("view")) ?? "log",
    attempt: number(query.get("attempt")),
    job: query.get("job") ?? "",
    file: query.get("file") ?? undefined,
    list: query.get("list") === "1",
    coverage: query.get("coverage") === "1",
    rows: query.get("rows")?.split(",").filter(Boolean),
    tables: query.get("tables")?.split(",").filter(Boolean) ?? [],
    show: shows.find((s) => s === query.get("show")) ?? "outcome",
  };
}

function decoded(text: string): string {
  try {
    return decodeURIComponent(text);
  } catch {
    return text;
  }
}

export function useAddress(): [Address, (change: Partial<Address>, replace?: boolean) => void] {
  const { pathname, search } = useLocation();
  const navigate = useNavigate();
  const address = useMemo(() => readAddress(pathname, search), [pathname, search]);
  // Changes build on the window's own address: of two keys pressed within one frame neither is lost.
  const go = useCallback(
    (change: Partial<Address>, replace = false) => {
      const { pathname, search } = window.location;
      void navigate(written({ ...readAddress(pathname, search), ...change }), { replace });
    },
    [navigate],
  );
  return [address, go];
}

/** An address as a path with its query; what is usual is left out. */
export function written(to: Partial<Address> & { project: string }): string {
  const query = new URLSearchParams();
  if (to.branch) query.set("branch", to.branch);
  if (to.section && to.section !== "findings") query.set("section", to.section);
  if (to.base) query.set("base", String(to.base));
  for (const cell of to.cells ?? []) query.append("cell", cell);
  if (to.finding !== undefined) query.set("finding", to.finding);
  if (to.state && to.state !== "not-passed") query.set("state", to.state);
  if (to.search) query.set("search", to.search);
  if (to.slower !== undefined) query.set("slower", String(to.slower));
  if (to.line !== undefined) query.set("line", String(to.line));
  if (to.view && to.view !== "log") query.set("view", to.view);
  if (to.attempt !== undefined) query.set("attempt", String(to.attempt));
  if (to.job) query.set("job", to.job);
  if (to.file !== undefined) query.set("file", to.file);
  if (to.coverage) query.set("coverage", "1");
  if (to.rows) query.set("rows", to.rows.join(","));
  if (to.tables?.length) query.set("tables", to.tables.join(","));
  if (to.show && to.show !== "outcome") query.set("show", to.show);
  if (to.list) query.set("list", "1");
  const tail = query.toString();
  return `/p/${encodeURIComponent(to.project)}${to.run ? `/runs/${to.run}` : ""}${tail ? `?${tail}` : ""}`;
}
