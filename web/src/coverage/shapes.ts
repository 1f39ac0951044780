/** Ranges, folders and marks of covered lines: what the section Coverage shows, without its looks. */
import { counted } from "../app/words";
import type { FileShare, RunCoverage } from "../api/client";

export interface Range {
  first: number;
  last: number;
}

/** Line numbers as ranges; lines at most `gap` apart stand together. */
export function ranges(lines: readonly number[], gap = 1): Range[] {
  const found: Range[] = [];
  for (const line of lines) {
    const last = found.at(-1);
    if (last && line <= last.last + gap) last.last = Math.max(last.last, line);
    else found.push({ first: line, last: line });
  }
  return found;
}

export function written({ first, last }: Range): string {
  return first === last ? String(first) : `${first}–${last}`;
}

export type LineMark = "covered" | "partly" | "bare" | "none";

/** How a line stands: `hits` null for one that cannot be covered. */
export function markOf(hits: number | null, taken: number, branches: number): LineMark {
  if (hits === null) return "none";
  if (hits === 0) return "bare";
  return branches > taken ? "partly" : "covered";
}

export interface FolderRow {
  path: string;
  name: string;
  folder: boolean;
  covered: number;
  valid: number;
  before: { covered: number; valid: number } | null;
  changed: number;
  lost: number;
  files: number;
}

/** What lies right below a folder: its folders, summed, then its files. */
export function below(files: readonly FileShare[], folder: string): FolderRow[] {
  const prefix = folder === "" ? "" : `${folder}/`;
  const found = new Map<string, FolderRow>();
  for (const file of files) {
    if (!file.path.startsWith(prefix)) continue;
    const rest = file.path.slice(prefix.length);
    const slash = rest.indexOf("/");
    const name = slash < 0 ? rest : rest.slice(0, slash);
    const key = slash < 0 ? `file ${name}` : `folder ${name}`;
    const row = found.get(key) ?? { path: prefix + name, name, folder: slash >= 0, covered: 0, valid: 0, before: null, changed: 0, lost: 0, files: 0 };
    row.covered += file.covered;
    row.valid += file.valid;
    if (file.before) row.before = { covered: (row.before?.covered ?? 0) + file.before.covered, valid: (row.before?.valid ?? 0) + file.before.valid };
    row.changed += file.changed;
    row.lost += file.lost;
    row.files += 1;
    found.set(key, row);
  }
  return [...found.values()];
}

/** Folders that hold nothing but one folder are opened in one step. */
export function straight(files: readonly FileShare[], folder: string): string {
  const rows = below(files, folder);
  const [only] = rows;
  return rows.length === 1 && only?.folder ? straight(files, only.path) : folder;
}

export type Order = "name" | "share" | "change" | "bare";

export function ordered(rows: readonly FolderRow[], order: Order): FolderRow[] {
  const share = (r: { covered: number; valid: number }) => (r.valid ? r.covered / r.valid : 1);
  const change = (r: FolderRow) => (r.before ? share(r) - share(r.before) : 0);
  const by: Record<Order, (a: FolderRow, b: FolderRow) => number> = {
    name: () => 0,
    share: (a, b) => share(a) - share(b),
    change: (a, b) => change(a) - change(b),
    bare: (a, b) => b.changed + b.lost - a.changed - a.lost,
  };
  return [...rows].sort((a, b) => by[order](a, b) || Number(b.folder) - Number(a.folder) || a.name.localeCompare(b.name, "en"));
}

/** A share as text, never rounded up to 100, as the server writes it. */
export function percent(covered: number, valid: number): string {
  if (!valid) return "nothing to cover";
  const tenths = (covered * 1000) / valid;
  const rounded = Math.floor(tenths + 0.5);
  return `${((rounded === 1000 && covered < valid ? Math.floor(tenths) : rounded) / 10).toFixed(1)} %`;
}

export interface Area {
  name: string;
  path: string;
  /** Lines that can be covered: its area. */
  value: number;
  covered: number;
  change: number | null;
  children?: Area[];
}

/** The files as areas within those of their folders; folders that hold one thing only are written as one. */
export function areas(files: readonly FileShare[], folder = ""): Area[] {
  return below(files, folder)
    .filter((row) => row.valid > 0)
    .map((row) => {
      const change = row.before && row.before.valid > 0 ? row.covered / row.valid - row.before.covered / row.before.valid : null;
      const area: Area = { name: row.name, path: row.path, value: row.valid, covered: row.covered, change };
      if (!row.folder) return area;
      const inside = straight(files, row.path);
      return { ...area, name: inside.slice(row.path.length - row.name.length), path: inside, children: areas(files, inside) };
    });
}

export type Tint = "share" | "change";

/** The step of a scale that an area is drawn in: 0 is worst. */
export function stepOf(area: Pick<Area, "covered" | "value" | "change">, tint: Tint): 0 | 1 | 2 | 3 | 4 {
  if (tint === "change") {
    const points = (area.change ?? 0) * 100;
    if (points <= -5) return 0;
    if (points < -0.05) return 1;
    if (points <= 0.05) return 2;
    return points < 5 ? 3 : 4;
  }
  const share = area.covered / area.value;
  if (share < 0.5) return 0;
  if (share < 0.7) return 1;
  if (share < 0.85) return 2;
  return share < 1 ? 3 : 4;
}

/** Points of a line from the left to the right, the least share at the foot; those without one are left out. */
export function placed<P extends { share: number | null }>(points: readonly P[], width: number, height: number): { x: number; y: number; point: P }[] {
  const known = points.filter((p) => p.share !== null);
  const shares = known.map((p) => p.share ?? 0);
  const least = Math.min(...shares);
  const span = Math.max(...shares) - least;
  const pad = 6;
  return known.map((point, i) => ({
    x: known.length < 2 ? width / 2 : pad + (i / (known.length - 1)) * (width - 2 * pad),
    y: span === 0 ? height / 2 : pad + (1 - ((point.share ?? 0) - least) / span) * (height - 2 * pad),
    point,
  }));
}

/** The line through points, as a path of SVG. */
export const path = (points: readonly { x: number; y: number }[]) => points.map((p, i) => `${i === 0 ? "M" : "L"}${p.x.toFixed(1)} ${p.y.toFixed(1)}`).join("");

/** Branches and functions, where reports tell them, as a sentence. */
export function finer({ branch, function: called }: Pick<RunCoverage, "branch" | "function">): string {
  const told = [branch && `${branch.text} of ${counted(branch.valid, "branch", "branches")}`, called && `${called.text} of ${counted(called.valid, "function")}`].filter(Boolean);
  return told.length > 0 ? ` Besides, ${told.join(" and ")} were run.` : "";
}
