/** The browser's tab: which run it shows and what is said of it; and a word when a run ends that somebody waits for. */
import { useQueries } from "@tanstack/react-query";
import { useEffect, useSyncExternalStore } from "react";
import type { Run } from "../api/client";
import { runQuery } from "./queries";
import { palettes } from "../marks/palette";
import { verdictNames, verdictShape, type Verdict } from "../marks/shapes";

/** The icon of a tab: the verdict's foot-mark on paper. */
export function iconOf(verdict: Verdict): string {
  const inks = palettes.light;
  const pieces = verdictShape(verdict, 24, 24)
    .map((p) => `<path d="${p.d}" fill="${p.fill ? inks[p.fill] : "none"}"${p.stroke ? ` stroke="${inks[p.stroke]}" stroke-width="3"${p.dash ? ' stroke-dasharray="3 4"' : ""}` : ""}/>`)
    .join("");
  return `data:image/svg+xml,${encodeURIComponent(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 32 32"><rect width="32" height="32" rx="3" fill="${inks.paper}"/><g transform="translate(4 4)">${pieces}</g></svg>`)}`;
}

export const titleOf = (run: Run) => `${run.project} #${run.run.number} ${verdictNames[run.run.verdict]} · Myriant`;

function dress(title: string, icon: string) {
  document.title = title;
  const link = document.querySelector<HTMLLinkElement>('link[rel="icon"]');
  if (link) link.href = icon;
}

/** Title and icon by the run that is shown; back to the usual ones when it is left. */
export function useTab(run: Run | undefined): void {
  const title = run ? titleOf(run) : undefined;
  const verdict = run?.run.verdict;
  useEffect(() => {
    if (!title || !verdict) return;
    dress(title, iconOf(verdict));
    return () => dress("Myriant", "/mark.svg");
  }, [title, verdict]);
}

/** Runs that the reader waits for, as "project/number"; they are watched wherever the reader is meanwhile. */
const waited = new Set<string>();
const listeners = new Set<() => void>();
let listed: string[] = [];
const nameOf = (run: Run) => `${run.project}/${run.run.number}`;

function changed() {
  listed = [...waited];
  listeners.forEach((l) => l());
}

function listen(listener: () => void) {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

/** Says when a run ends that the reader waits for. Stands once, around every page. */
export function useToldWhenEnded(): void {
  const names = useSyncExternalStore(listen, () => listed);
  useQueries({
    queries: names.map((name) => {
      const [project = "", number = "0"] = name.split("/");
      return { ...runQuery(project, Number(number)), refetchInterval: 15_000 };
    }),
    combine: (answers) => {
      for (const { data } of answers) if (data && !data.open && waited.delete(nameOf(data))) setTimeout(() => say(data));
      return answers.length;
    },
  });
}

function say(run: Run) {
  new Notification(titleOf(run), { body: run.run.sentence, tag: nameOf(run), icon: iconOf(run.run.verdict) });
  changed();
}

/** Whether the reader is told when a run ends, and the switch for it; undefined where the browser cannot. */
export function useTellMe(run: Run): { on: boolean; toggle: () => void } | undefined {
  const name = nameOf(run);
  const on = useSyncExternalStore(listen, () => waited.has(name));
  if (typeof Notification === "undefined") return undefined;
  const toggle = () => {
    if (!waited.delete(name)) {
      waited.add(name);
      void Notification.requestPermission().then((said) => {
        if (said === "denied") waited.delete(name);
        changed();
      });
    }
    changed();
  };
  return { on, toggle };
}
