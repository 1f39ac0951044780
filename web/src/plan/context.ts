/** Where in a plan a cursor stands: in which table, at which key, inside a value or not. Pure. */

export interface Word {
  key: string;
  takes: string;
  doc: string;
  example: string;
  of: string;
  needed: boolean;
}
export type Tables = Record<string, Word[]>;

export interface Context {
  /** The kind of table: "job", "step", "collect" …; undefined where names are free (vary, env). */
  kind: string | undefined;
  /** The key whose value the cursor stands in, and what it takes. */
  key: string | undefined;
  /** The path of the table as written in its header. */
  header: string[];
}

const bare = /^[A-Za-z0-9_-]+$/;

/** The kind of table that a header's path names. */
export function kindOf(path: string[], tables: Tables): string | undefined {
  let kind: string | undefined = "plan";
  for (let i = 0; i < path.length; i++) {
    const of: string | undefined = (tables[kind ?? ""] ?? []).find((w) => w.key === path[i])?.of;
    if (of === undefined) return undefined;
    const [base = "", table = ""]: string[] = of.split(":");
    if (base === "named") {
      i += 1;
      kind = i < path.length ? table : undefined;
    } else kind = base === "table" || base === "tables" ? table : undefined;
  }
  return kind;
}

/** The keys of a header or a dotted key, quotes taken off. */
export function keysOf(text: string): string[] {
  return text
    .split(".")
    .map((k) => k.trim().replace(/^["']|["']$/g, ""))
    .filter(Boolean);
}

/** What stands before an offset: the open inline tables and the key whose value is being written. */
export function contextAt(text: string, offset: number, tables: Tables): Context {
  const before = text.slice(0, offset);
  const lines = before.split("\n");
  let header: string[] = [];
  let start = 0;
  let at = 0;
  for (const line of lines.slice(0, -1)) {
    at += line.length + 1;
    const found = /^\s*\[\[?([^\]]+)\]\]?\s*(#.*)?$/.exec(line);
    if (found?.[1]) {
      header = keysOf(found[1]);
      start = at;
    }
  }
  const stack: string[][] = [header];
  let key: string | undefined;
  let word = "";
  let quote = "";
  for (let i = start; i < before.length; i++) {
    const c = before[i] ?? "";
    if (quote) {
      if (c === "\\" && quote === '"') i += 1;
      else if (c === quote) {
        quote = "";
        if (key === undefined) word += c;
      } else if (key === undefined) word += c;
      continue;
    }
    if (c === "#") {
      while (i < before.length && before[i] !== "\n") i += 1;
      i -= 1;
    } else if (c === '"' || c === "'") {
      quote = c;
      if (key === undefined) word += c;
    } else if (c === "=") {
      key = word.trim();
      word = "";
    } else if (c === "{") {
      stack.push([...(stack.at(-1) ?? []), ...keysOf(key ?? "")]);
      key = undefined;
      word = "";
    } else if (c === "}") {
      if (stack.length > 1) stack.pop();
      key = "";
      word = "";
    } else if (c === "\n" && stack.length === 1 && balanced(before, start, i)) {
      key = undefined;
      word = "";
    } else if (c === "," && stack.length > 1 && key !== undefined && !insideList(before, start, i)) {
      key = undefined;
      word = "";
    } else if (key === undefined) word += c;
  }
  const path = stack.at(-1) ?? [];
  return { kind: kindOf(path, tables), key: key || undefined, header };
}

function depths(text: string, start: number, end: number): { lists: number; tables: number; last: string } {
  let lists = 0;
  let inline = 0;
  let quote = "";
  const open: string[] = [];
  for (let i = start; i < end; i++) {
    const c = text[i] ?? "";
    if (quote) {
      if (c === "\\" && quote === '"') i += 1;
      else if (c === quote) quote = "";
    } else if (c === '"' || c === "'") quote = c;
    else if (c === "[" || c === "{") {
      open.push(c);
      if (c === "[") lists += 1;
      else inline += 1;
    } else if (c === "]" || c === "}") {
      open.pop();
      if (c === "]") lists -= 1;
      else inline -= 1;
    }
  }
  return { lists, tables: inline, last: open.at(-1) ?? "" };
}

const balanced = (text: string, start: number, end: number) => depths(text, start, end).lists <= 0;
const insideList = (text: string, start: number, end: number) => depths(text, start, end).last === "[";

/** What can be written where the cursor stands. */
export interface Offer {
  label: string;
  detail: string;
  info: string;
  insert: string;
}

export interface Known {
  tables: Tables;
  measures: Record<string, string>;
  zones: string[];
  offers: string[];
  jobs: string[];
  branches: string[];
  pieces: string[];
}

export function offersAt(text: string, offset: number, known: Known): Offer[] {
  const context = contextAt(text, offset, known.tables);
  if (context.key === undefined) {
    const words = known.tables[context.kind ?? ""] ?? [];
    return words.map((w) => ({ label: w.key, detail: w.takes, info: w.doc, insert: bare.test(w.key) ? `${w.key} = ` : w.key }));
  }
  const word = (known.tables[context.kind ?? ""] ?? []).find((w) => w.key === context.key);
  const values = (list: string[], detail: string): Offer[] => list.map((v) => ({ label: v, detail, info: "", insert: v }));
  const of = word?.of ?? "";
  if (of.startsWith("one:") || of.startsWith("each:")) return values(of.slice(of.indexOf(":") + 1).split("|"), context.key);
  if (of === "zone") return values(known.zones, "time zone");
  if (of === "flag") return values(["true", "false"], "");
  if (of === "after" || context.key === "jobs" || context.key === "job") return values(known.jobs, "job");
  if (context.key === "measure") return Object.entries(known.measures).map(([label, info]) => ({ label, detail: "measure", info, insert: label }));
  if (context.key === "branches" || context.key === "into" || context.key === "branch") return values(known.branches, "branch");
  if (context.key === "runner") return values(offered(known.offers, "label"), "label");
  const versions = offered(known.offers, context.key);
  if (versions.length > 0) return values(versions, `${context.key} on your runners`);
  if (context.key === "runtime") return values([...new Set(known.offers.map((o) => o.split(" ")[0] ?? "").filter((f) => f !== "label"))], "runtime");
  return [];
}

const offered = (offers: string[], family: string) =>
  offers
    .filter((o) => o.startsWith(`${family} `))
    .map((o) => o.slice(family.length + 1))
    .sort((a, b) => a.localeCompare(b, undefined, { numeric: true }));
