import { useState } from "react";
import { Link } from "react-router";
import { useAddress, written } from "../app/address";
import { counted } from "../app/words";
import type { OtherFinding, Rule, Run, TroubledCells } from "../api/client";
import { StatusMark, VerdictMark } from "../marks/StatusMark";
import { markNamed } from "../marks/shapes";
import { saysOf } from "../run/MustHold";
import classes from "./findings.module.css";
import { SourceAt } from "./SourceAt";

const placing: Record<string, string> = { void: "no result", waiting: "cannot run", failed: "step failed" };
const NAMED = 3;
const OPENED = 8; // cells whose evidence one click opens

/** Cells that gave no result to trust, failed beside their tests, or cannot run, all for one reason. */
export function CellFinding({ trouble: { cells, state, mark, reason, told, line, of } }: { trouble: TroubledCells }) {
  const [address] = useAddress();
  const keys = cells.slice(0, NAMED).map((c) => c.key).filter(Boolean);
  const jobs = [...new Set(cells.map((c) => c.job))].join(", ");
  const left = cells.length - Math.min(cells.length, NAMED);
  const some = `${keys.join(", ")}${left > 0 ? ` and ${counted(left, "more cell")}` : ""}`;
  const named = cells.length === of && of > 1 ? `${jobs}, all ${of} cells` : `${jobs} ${some}`.trim();
  return (
    <li className={classes.item}>
      <Link className={`plain ${classes.row ?? ""}`} to={written({ ...address, section: "evidence", cells: cells.slice(0, OPENED).map((c) => `${c.job}/${c.key}`) })} style={{ color: "inherit" }}>
        <StatusMark mark={markNamed(mark)} size={13} />
        <span className={classes.title}>
          <b>
            {named}
          </b>
          <span className={classes.pair} title={reason}>
            {reason}
          </span>
        </span>
        <span className={classes.where}>{`${placing[state] ?? state}${of > 1 ? ` in ${cells.length} of ${of}` : ""}`}</span>
        <span />
      </Link>
      {told && (
        <p className={classes.next}>
          <b>{told.name}</b> <span className="soft">({told.part})</span> {told.say}
        </p>
      )}
      {!told && line && (
        <p className={classes.next}>
          Its log says: <code>{line}</code>
        </p>
      )}
    </li>
  );
}

/** A rule that is not met for another reason than failing tests. */
export function RuleFinding({ rule, follows = "" }: { rule: Rule; follows?: string }) {
  return (
    <li className={classes.item}>
      <div className={classes.row}>
        <VerdictMark verdict={rule.level === "warn" ? "undecided" : "held"} size={13} />
        <span className={classes.title}>
          <b>{rule.name}</b>
          <span className={classes.pair}>
            {saysOf(rule)}
          </span>
        </span>
        <span className={classes.where}>{follows || (rule.level === "warn" ? "warns" : "holds")}</span>
        <span />
      </div>
    </li>
  );
}

const placed: Record<string, string> = { vanished: "gone", "newly-skipped": "skipped", removed: "gone", loosened: "the plan", moved: "renamed", slower: "time", coverage: "coverage", analysis: "analysis", "not-run": "not run" };

/** What is odd beside failing tests; its lines open in place, and those with a place show the source. */
export function OtherRow({ other, run }: { other: OtherFinding; run: Run }) {
  const [open, setOpen] = useState(false);
  const [shown, setShown] = useState<number>();
  return (
    <li className={classes.item}>
      <button type="button" className={`plain ${classes.row ?? ""}`} aria-expanded={open} onClick={() => setOpen(!open)}>
        <StatusMark mark={other.kind === "moved" ? "fixed" : other.kind === "analysis" ? "new" : "skipped"} size={13} />
        <span className={classes.title}>
          <b>{other.title}</b>
          <span className={classes.pair}>{other.say}</span>
        </span>
        <span className={classes.where}>{placed[other.kind] ?? "not a failing test"}</span>
        <span />
      </button>
      {open && (
        <ul className={classes.lines}>
          {other.lines.map((line, i) => (
            <li key={i}>
              {line.test !== null && line.test !== undefined ? (
                <Link to={`/p/${encodeURIComponent(run.project)}/tests/${line.test}`}>{line.text}</Link>
              ) : line.path ? (
                <button type="button" className="plain" aria-expanded={shown === i} onClick={() => setShown(shown === i ? undefined : i)}>
                  {other.kind === "analysis" && (
                    <span className="mono soft">
                      {line.path}:{line.line}{" "}
                    </span>
                  )}
                  {line.text}
                </button>
              ) : (
                line.text
              )}
              {shown === i && line.path && <SourceAt project={run.project} commit={run.tested} path={line.path} line={line.line} />}
            </li>
          ))}
          {other.more > 0 && <li className="soft">and {other.more} more</li>}
        </ul>
      )}
    </li>
  );
}
