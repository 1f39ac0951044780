import { useEffect, useRef } from "react";
import { Link } from "react-router";
import { useAddress, written } from "../app/address";
import { duration } from "../app/words";
import type { Cell, Finding, Rule } from "../api/client";
import { StatusMark, VerdictMark } from "../marks/StatusMark";
import { markNamed } from "../marks/shapes";
import { difference, type Part } from "./difference";
import classes from "./findings.module.css";

interface Props {
  finding: Finding;
  cells: Cell[];
  open: boolean;
  current: boolean;
  onToggle: () => void;
}

const words: Record<string, string> = { new: "new", first: "first result here", known: "known", flaky: "flaky" };

const controls: Record<string, string> = {
  change: "The change: the gate baseline still passes today.",
  world: "The world: the gate baseline fails today too.",
  chance: "Chance: it passed here when it was run once more.",
};

export function FindingRow({ finding, cells, open, current, onToggle }: Props) {
  const button = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    if (current && document.activeElement?.closest("[data-findings]")) button.current?.focus();
  }, [current]);
  const failed = new Map(finding.cells.map((c) => [`${c.job}/${c.key}`, c]));
  const { expected, actual } = finding;
  return (
    <li className={classes.item} data-findings>
      <button ref={button} type="button" className={`plain ${classes.row ?? ""}`} aria-expanded={open} onClick={onToggle}>
        <StatusMark mark={markNamed(finding.mark)} size={13} />
        <span className={classes.title}>
          <b>{finding.title}</b>
          <span className={`${classes.pair ?? ""} mono`}>{expected !== null && actual !== null ? `expected ${expected}, got ${actual}` : firstLine(finding.message)}</span>
        </span>
        <span className={classes.where}>
          {words[finding.mark]} · {where(finding)}
          {finding.control && ` · the control run says ${finding.control === "chance" ? "chance" : `the ${finding.control}`}`}
        </span>
        <span className={classes.thumb}>
          {cells
            .filter((c) => c.job === finding.job)
            .slice(0, 48)
            .map((c) => (
              <StatusMark key={c.id} size={9} mark={markNamed(failed.get(`${c.job}/${c.key}`)?.mark ?? (c.state === "passed" || c.state === "failed" ? "passed" : c.mark))} />
            ))}
        </span>
      </button>
      {open && <Opened finding={finding} />}
    </li>
  );
}

function where(finding: Finding) {
  if (finding.where) return <>only where <code>{finding.where}</code></>;
  if (finding.cells.length === finding.ran_in) return finding.ran_in === 1 ? "in its one cell" : `in all ${finding.ran_in} cells`;
  return `no pattern: ${finding.cells.length} of ${finding.ran_in} cells`;
}

function Opened({ finding }: { finding: Finding }) {
  const [address] = useAddress();
  const first = finding.cells[0];
  const pair = finding.expected !== null && finding.actual !== null ? difference(finding.expected, finding.actual) : undefined;
  return (
    <div className={classes.open}>
      {finding.control && <p className={classes.control}>{controls[finding.control]}</p>}
      {pair ? (
        <div className={classes.diff} data-testid="expected-actual">
          <span>expected</span>
          <Marked parts={pair[0]} className={classes.expected} />
          <span>actual</span>
          <Marked parts={pair[1]} className={classes.actual} />
        </div>
      ) : (
        <div className={`${classes.reason ?? ""} mono`}>{finding.message}</div>
      )}
      {first?.detail && <pre className={classes.detail}>{first.detail}</pre>}
      <div className={classes.cells}>
        {finding.cells.map((c) => (
          <Link key={c.attempt_id} className={classes.cell} to={written({ ...address, section: "evidence", cells: [`${c.job}/${c.key}`] })}>
            <StatusMark mark={markNamed(c.mark)} size={11} />
            {c.job} {c.key}: {c.outcome}
            {c.seconds !== null && ` after ${duration(c.seconds)}`}, its log
          </Link>
        ))}
      </div>
    </div>
  );
}

function Marked({ parts, className }: { parts: Part[]; className: string | undefined }) {
  return <pre className={className}>{parts.map((p, i) => (p.changed ? <mark key={i}>{p.text}</mark> : <span key={i}>{p.text}</span>))}</pre>;
}

/** A cell that gave no result to trust, failed beside its tests, or cannot run. */
export function CellFinding({ cell }: { cell: Cell }) {
  const [address] = useAddress();
  return (
    <li className={classes.item}>
      <Link className={`plain ${classes.row ?? ""}`} to={written({ ...address, section: "evidence", cells: [`${cell.job}/${cell.key}`] })} style={{ color: "inherit" }}>
        <StatusMark mark={markNamed(cell.mark)} size={13} />
        <span className={classes.title}>
          <b>
            {cell.job} {cell.key}
          </b>
          <span className={classes.pair} title={cell.reason}>
            {cell.reason}
          </span>
        </span>
        <span className={classes.where}>{cell.state === "void" ? "void" : cell.state === "waiting" ? "cannot run" : "step failed"}</span>
        <span />
      </Link>
    </li>
  );
}

/** A rule that is not met for another reason than failing tests. */
export function RuleFinding({ rule }: { rule: Rule }) {
  return (
    <li className={classes.item}>
      <div className={classes.row}>
        <VerdictMark verdict={rule.level === "warn" ? "undecided" : "held"} size={13} />
        <span className={classes.title}>
          <b>{rule.name}</b>
          <span className={classes.pair}>
            {rule.value === null ? rule.reason : `${rule.value}, ${rule.sign.replace("-", " ")} ${rule.limit ?? "the baseline's"}`}
          </span>
        </span>
        <span className={classes.where}>{rule.level === "warn" ? "warns" : "holds"}</span>
        <span />
      </div>
    </li>
  );
}

const firstLine = (text: string) => text.split("\n", 1)[0] ?? "";
