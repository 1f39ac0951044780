import { useEffect, useRef } from "react";
import { counted } from "../app/words";
import type { Finding, Run } from "../api/client";
import { StatusMark } from "../marks/StatusMark";
import { markNamed } from "../marks/shapes";
import classes from "./findings.module.css";
import { Opened } from "./Opened";

const words: Record<string, string> = { new: "new", first: "first result here", known: "known", quarantined: "quarantined", flaky: "flaky" };
const MOST_MARKS = 60;

/** One cause in one row: what it says, how far it reaches, where; it opens in place. */
export function FindingRow({ finding, run, open, current, onToggle }: { finding: Finding; run: Run; open: boolean; current: boolean; onToggle: () => void }) {
  const button = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    if (current && document.activeElement?.closest("[data-findings]")) button.current?.focus();
  }, [current]);
  const jobs = new Set(finding.cells.map((c) => c.job));
  const failed = new Map(finding.cells.map((c) => [`${c.job}/${c.key}`, c.mark]));
  const silent = new Set(finding.silent);
  const markOf = (c: Run["cells"][number]) => {
    const name = `${c.job}/${c.key}`;
    const ended = c.state === "passed" || c.state === "failed";
    return markNamed(failed.get(name) ?? (silent.has(name) && ended ? "skipped" : ended ? "passed" : c.mark)); // there it says nothing
  };
  const cells = run.cells.filter((c) => jobs.has(c.job));
  const { expected, actual } = finding;
  const many = finding.tests.length + finding.more_tests;
  const said = expected !== null && actual !== null ? `expected ${oneLine(expected)}, got ${oneLine(actual)}` : oneLine(finding.message);
  return (
    <li className={classes.item} data-findings>
      <button ref={button} type="button" className={`plain ${classes.row ?? ""}`} aria-expanded={open} onClick={onToggle}>
        <StatusMark mark={markNamed(finding.mark)} size={13} />
        <span className={classes.title}>
          <b>{finding.title}</b>
          <span className={`${classes.pair ?? ""} mono`}>{many > 1 && !(expected !== null && actual !== null) ? finding.exception : said}</span>
        </span>
        <span className={classes.where}>
          {finding.back_since ? "came back" : words[finding.mark]}
          {many > 1 && ` · ${counted(many, "test")} × ${counted(new Set(finding.cells.map((c) => `${c.job}/${c.key}`)).size, "cell")}`} · {where(finding)}
          {finding.control && ` · ${{ change: "the change did it", world: "not the change", chance: "chance", unsure: "not sure yet" }[finding.control] ?? ""}`}
          {finding.taken && <b className={classes.takenBy}>{` · ${finding.taken.by} has it`}</b>}
        </span>
        <span className={classes.thumb}>
          {cells.slice(0, MOST_MARKS).map((c) => (
            <StatusMark key={c.id} size={9} mark={markOf(c)} />
          ))}
          {cells.length > MOST_MARKS && <span className="soft">+{cells.length - MOST_MARKS}</span>}
        </span>
      </button>
      {open && <Opened finding={finding} run={run} />}
    </li>
  );
}

function where(finding: Finding) {
  const cells = new Set(finding.cells.map((c) => `${c.job}/${c.key}`)).size;
  if (finding.where) {
    return (
      <>
        {finding.missed ? "mostly where " : finding.where_sure ? "only where " : "so far where "}
        <code>{finding.where}</code>
        {finding.or_where && (
          <>
            {" or "}
            <code>{finding.or_where}</code>
          </>
        )}
        {finding.missed > 0 && ` (wrong for ${finding.missed})`}
      </>
    );
  }
  if (cells >= finding.ran_in) return finding.ran_in === 1 ? "in its one cell" : `in all ${finding.ran_in} cells`;
  return `no pattern: ${cells} of ${finding.ran_in} cells`;
}

const oneLine = (text: string) => text.split("\n", 1)[0] ?? "";
