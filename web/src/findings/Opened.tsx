import { useState } from "react";
import { Link } from "react-router";
import { useAddress, written } from "../app/address";
import { counted, duration } from "../app/words";
import type { Finding, Run } from "../api/client";
import { StatusMark } from "../marks/StatusMark";
import { markNamed } from "../marks/shapes";
import { difference, type Part } from "./difference";
import { Attachments } from "./Attachments";
import classes from "./findings.module.css";
import { SourceAt } from "./SourceAt";
import { Why } from "./Why";

const controls: Record<string, string> = {
  change: "The change did it.",
  world: "Not the change: something outside did it, as the gate baseline fails today too.",
  chance: "Chance, not the change.",
  unsure: "Whether the change did it is not sure yet.",
};

/** What repeating it gave, here and on the gate baseline: "failed 3 of 3 times". */
function repeats({ here_passed, here_failed, baseline_passed, baseline_failed, baseline_absent }: NonNullable<Finding["repeated"]>): string {
  const here = here_passed + here_failed;
  const there = baseline_passed + baseline_failed;
  const tried = (failed: number, all: number) => (failed === 0 ? `passed ${counted(all, "time")}` : failed === all ? `failed ${counted(all, "time")}` : `failed ${failed} of ${all} times`);
  const told = [here > 0 && `Repeated here it ${tried(here_failed, here)}`, there > 0 && `${here > 0 ? "on" : "On"} the gate baseline, today, it ${tried(baseline_failed, there)}`, baseline_absent && `${here > 0 ? "the" : "The"} gate baseline has no such test`];
  return told.filter(Boolean).join("; ");
}
const FEW = 12;

/** All the evidence of one cause: what was seen at the left, why and what to do at the right. */
export function Opened({ finding, run }: { finding: Finding; run: Run }) {
  return (
    <div className={classes.open}>
      <div className={classes.seen}>
        {finding.told && finding.expected === null && (
          <p className={classes.next}>
            <b>{finding.told.name}</b> <span className="soft">({finding.told.part})</span> {finding.told.say}
          </p>
        )}
        {finding.control && (
          <p className={classes.control}>
            {controls[finding.control]} {finding.repeated && `${repeats(finding.repeated)}.`}
          </p>
        )}
        <Compared finding={finding} />
        <Stack finding={finding} run={run} />
        <Attachments finding={finding} />
        {finding.output && (
          <details>
            <summary>What it printed</summary>
            <pre className={classes.detail} tabIndex={0} aria-label="Output">
              {finding.output}
            </pre>
          </details>
        )}
        <Reach finding={finding} run={run} />
      </div>
      <Why finding={finding} run={run} />
    </div>
  );
}

function Compared({ finding }: { finding: Finding }) {
  if (finding.expected === null || finding.actual === null) return <div className={`${classes.reason ?? ""} mono`}>{finding.message}</div>;
  const pair = difference(finding.expected, finding.actual);
  return (
    <div className={classes.diff} data-testid="expected-actual">
      <span>expected</span>
      <Marked parts={pair[0]} className={classes.expected} />
      <span>actual</span>
      <Marked parts={pair[1]} className={classes.actual} />
    </div>
  );
}

function Marked({ parts, className }: { parts: Part[]; className: string | undefined }) {
  return <pre className={className}>{parts.map((p, i) => (p.changed ? <mark key={i}>{p.text}</mark> : <span key={i}>{p.text}</span>))}</pre>;
}

/** The project's own places of the stack, each opening the source at that commit, and the stack as it came. */
function Stack({ finding, run }: { finding: Finding; run: Run }) {
  const [shown, setShown] = useState<number>();
  const place = shown === undefined ? undefined : finding.places[shown];
  return (
    <>
      {finding.places.length > 0 && (
        <div className={classes.places} data-testid="places">
          {finding.places.map((p, i) => (
            <button key={i} type="button" className="plain mono" aria-expanded={shown === i} onClick={() => setShown(shown === i ? undefined : i)}>
              {p.file}:{p.line}
              {p.name && <span className="soft"> {p.name}</span>}
            </button>
          ))}
        </div>
      )}
      {place && <SourceAt project={run.project} commit={run.tested} path={place.file} line={place.line} />}
      {finding.detail && (
        <pre className={classes.detail} tabIndex={0} aria-label="Stack">
          {finding.detail}
        </pre>
      )}
    </>
  );
}

/** Every test and cell in which it shows. */
function Reach({ finding, run }: { finding: Finding; run: Run }) {
  const [address] = useAddress();
  const [all, setAll] = useState(false);
  const tests = all ? finding.tests : finding.tests.slice(0, FEW);
  const left = finding.tests.length + finding.more_tests - tests.length;
  return (
    <>
      <ul className={classes.tests} aria-label="Tests">
        {tests.map((t) => (
          <li key={t.test}>
            <StatusMark mark={markNamed(t.mark)} size={10} />
            <Link to={`/p/${encodeURIComponent(run.project)}/tests/${t.test}`}>{t.title}</Link>
            {finding.tests.length > 1 && <span className="soft">{counted(t.cells, "cell")}</span>}
          </li>
        ))}
        {left > 0 && (
          <li>
            <button type="button" className="plain" onClick={() => setAll(true)} disabled={all}>
              {counted(left, "more test")}
            </button>
          </li>
        )}
      </ul>
      <div className={classes.cells}>
        {finding.cells.map((c) => (
          <Link key={c.attempt_id} className={classes.cell} to={written({ ...address, section: "evidence", cells: [`${c.job}/${c.key}`] })}>
            <StatusMark mark={markNamed(c.mark)} size={11} />
            {c.job} {c.key}: {c.tests > 1 ? `${c.tests} tests` : c.outcome}
            {c.tests === 1 && c.seconds !== null && c.seconds >= 0.0005 && ` after ${duration(c.seconds)}`}, its log
          </Link>
        ))}
      </div>
    </>
  );
}
