/** Every key of the interface in one place: what it does, where, and whether the reader wants it otherwise. */
import { useHotkeys, type HotkeyItem } from "@mantine/hooks";
import { useSyncExternalStore } from "react";

export const places = { everywhere: "Everywhere", strip: "On the strip", run: "In a run", findings: "In Findings", coverage: "In Coverage" } as const;

interface Action {
  key: string;
  does: string;
  where: keyof typeof places;
}

export const actions = {
  goto: { key: "mod+K", does: "go to a project, run, test, branch, file or command", where: "everywhere" },
  help: { key: "shift+?", does: "this sheet", where: "everywhere" },
  before: { key: "ArrowLeft", does: "the run before", where: "strip" },
  after: { key: "ArrowRight", does: "the run after", where: "strip" },
  newest: { key: "End", does: "the newest run, and follow it", where: "strip" },
  nextChange: { key: "n", does: "the next run whose verdict differs from the one before", where: "strip" },
  lastChange: { key: "p", does: "the same, backwards", where: "strip" },
  base: { key: "b", does: "compare with the chosen run, or no longer", where: "strip" },
  line: { key: "c", does: "line of coverage across the strip", where: "strip" },
  list: { key: "l", does: "runs as a list, or as the strip", where: "strip" },
  findings: { key: "1", does: "Findings", where: "run" },
  matrix: { key: "2", does: "Matrix", where: "run" },
  tests: { key: "3", does: "Tests", where: "run" },
  coverage: { key: "4", does: "Coverage", where: "run" },
  evidence: { key: "5", does: "Evidence", where: "run" },
  sent: { key: "6", does: "Sent", where: "run" },
  change: { key: "d", does: "what the commit changed", where: "run" },
  down: { key: "j", does: "the next finding, or uncovered line", where: "findings" },
  up: { key: "k", does: "the one before", where: "findings" },
  open: { key: "o", does: "open or close the finding", where: "findings" },
  away: { key: "e", does: "close what is open", where: "findings" },
  back: { key: "u", does: "from a file back to all files", where: "coverage" },
} satisfies Record<string, Action>;

export type ActionId = keyof typeof actions;

const STORED = "myriant-keys";
export interface Wish {
  off: boolean; // single keys do nothing; Ctrl-K stays
  own: Partial<Record<ActionId, string>>;
}
const usual: Wish = { off: false, own: {} };
const listeners = new Set<() => void>();
let known: Wish = read();

function read(): Wish {
  try {
    const found = JSON.parse(localStorage.getItem(STORED) ?? "null") as Partial<Wish> | null;
    return { off: found?.off === true, own: typeof found?.own === "object" ? found.own : {} };
  } catch {
    return usual;
  }
}

export function wishKeys(wish: Wish): void {
  known = wish;
  try {
    localStorage.setItem(STORED, JSON.stringify(wish));
  } catch {
    // without storage it holds as long as this page is open
  }
  listeners.forEach((l) => l());
}

export function useWish(): Wish {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => known,
  );
}

/** The key of an action as it is in force; undefined when single keys are off. */
export function keyOf(id: ActionId, wish: Wish): string | undefined {
  const key = wish.own[id] ?? actions[id].key;
  return wish.off && !key.startsWith("mod+") ? undefined : key;
}

/** Which action has a key already, so that none is given twice where both are heard. */
export function clash(id: ActionId, key: string, wish: Wish): ActionId | undefined {
  return (Object.keys(actions) as ActionId[]).find((other) => other !== id && (wish.own[other] ?? actions[other].key).toLowerCase() === key.toLowerCase());
}

/** What is done at a key, but where the key scrolls the box that has the focus. */
export const unlessItScrolls = (act: () => void) => (event: KeyboardEvent) => {
  const box = event.target;
  if (box instanceof HTMLElement && box.tabIndex === 0 && /^(region|log)$/.test(box.getAttribute("role") ?? "")) {
    if (event.key === "End" && box.scrollHeight > box.clientHeight) return;
    if (/^Arrow(Left|Right)$/.test(event.key) && box.scrollWidth > box.clientWidth) return;
  }
  event.preventDefault();
  act();
};

export function useActions(bound: Partial<Record<ActionId, () => void>>): void {
  const wish = useWish();
  const items: HotkeyItem[] = [];
  for (const [id, act] of Object.entries(bound)) {
    const key = keyOf(id as ActionId, wish);
    if (key) items.push([key, unlessItScrolls(act), { preventDefault: false }]);
    if (key === "shift+?") items.push(["?", unlessItScrolls(act), { preventDefault: false }]); // where the character needs no shift
  }
  useHotkeys(items, bound.goto ? [] : undefined);
}

const symbols: Record<string, string> = { ArrowLeft: "←", ArrowRight: "→", "mod+K": "Ctrl K", "shift+?": "?" };
export const keyName = (key: string) => symbols[key] ?? key;
