import { useClipboard } from "@mantine/hooks";
import { lazy, Suspense } from "react";
import { Actions } from "./Actions";
import type { Cell, Run } from "../api/client";
import { useAddress } from "../app/address";
import { MustHold } from "./MustHold";
import { ago, counted, duration, exact, middle, short, signed } from "../app/words";
import { Link } from "react-router";
import { VerdictMark } from "../marks/StatusMark";
import { verdictNames } from "../marks/shapes";
import classes from "./run.module.css";

const Accepting = lazy(() => import("./Accepting").then((m) => ({ default: m.Accepting })));
const Approvals = lazy(() => import("./Approvals").then((m) => ({ default: m.Approvals })));

/** The event in a few words. */
function eventOf(run: Run): string {
  switch (run.run.event) {
    case "tag":
      return `tag ${run.tag}`;
    case "pull-request":
      return `${run.pull_request === null ? "" : `pull request ${run.pull_request}: `}${run.source} into ${run.run.branch}`;
    case "schedule":
      return `${run.run.context} on ${run.run.branch}`;
    case "manual":
      return run.run.branch ? `by hand, on ${run.run.branch}` : "by hand, on no branch";
    default:
      return `${run.run.event} to ${run.run.branch}`;
  }
}

/** In how many cells the tests were run, where that is not all of them. */
export function measuredIn(cells: Cell[]): string {
  const asked = cells.filter((c) => c.selected && !c.gated);
  const gave = asked.filter((c) => c.total > 0 || c.state === "passed");
  return gave.length < asked.length ? ` in ${gave.length} of ${counted(asked.length, "cell")}` : "";
}

export function Header({ run, now }: { run: Run; now: number }) {
  const { run: line } = run;
  const clipboard = useClipboard();
  const [address, go] = useAddress();
  return (
    <div className={classes.head}>
      <div>
        <div className={classes.line}>
          <strong>#{line.number}</strong>
          <button type="button" className={`plain ${classes.title ?? ""}`} title={`${line.title}\nWhat it changed (key d)`} onClick={() => go({ section: address.section === "change" ? "findings" : "change" })}>
            {line.title ? middle(line.title, 120) : "reading the commit …"}
          </button>
        </div>
        <h1 className={classes.sentence} data-testid="sentence">
          <VerdictMark verdict={line.verdict} size={16} />
          <span>{line.verdict === "undecided" ? progress(run) : line.sentence}</span>
        </h1>
        <Word run={run} />
        <div className={classes.shares}>
          {run.share_passed && (
            <span>
              <b>{run.share_passed}</b> <span className="soft">
                of {counted(run.tests, "test")} that ran passed{measuredIn(run.cells)}
              </span>
            </span>
          )}
          {run.coverage && (
            <span>
              <b>{run.coverage.shown}</b>{" "}
              <span className="soft">
                of {counted(run.coverage.lines_valid, "line")} covered
                {run.coverage.change !== null && ` (${signed(run.coverage.change)} points)`}
              </span>
            </span>
          )}
          {run.changed_covered && (
            <span>
              <b>{run.changed_covered}</b> <span className="soft">of the changed lines covered</span>
            </span>
          )}
        </div>
        <Controls run={run} />
        <Suspense fallback={null}>
          {run.approvals.length > 0 && <Approvals run={run} now={now} />}
          {run.accepted.length + run.acceptable.loosened.length + run.acceptable.tests.length > 0 && <Accepting run={run} now={now} />}
        </Suspense>
        <div className={classes.line} style={{ marginTop: 6 }}>
          <span>{line.author}</span>
          <button type="button" className={`plain mono ${classes.copy ?? ""}`} title="Copy the whole commit id" onClick={() => clipboard.copy(line.commit)}>
            {clipboard.copied ? "copied" : short(line.commit)}
          </button>
          <span>{eventOf(run)}</span>
          <span title={exact(line.at)}>{ago(line.at, now)}</span>
          {run.baseline && (
            <span>
              gate baseline <span className="mono">{short(run.baseline.commit)}</span> (#{run.baseline.number})
            </span>
          )}
          <Actions run={run} />
        </div>
      </div>
      <MustHold run={run} />
    </div>
  );
}

/** The commit's word, where this run is not the one that says it. */
function Word({ run }: { run: Run }) {
  const { run: line } = run;
  if (line.verdict === line.word && line.word_run === line.number) return null;
  if (!line.word_context) return null;
  const by = line.word_run === line.number || line.word_run === 0 ? "" : `, said by `;
  return (
    <div className={classes.word} data-testid="word">
      <VerdictMark verdict={line.word} size={12} />
      <span>
        This commit&apos;s word for {line.word_context}: <b>{verdictNames[line.word]}</b>
        {by && (
          <>
            {by}
            <Link to={`/p/${run.project}/runs/${line.word_run}`}>#{line.word_run}</Link>
          </>
        )}
        .
      </span>
    </div>
  );
}

/** What the control runs do; their answer stands with each finding. */
function Controls({ run }: { run: Run }) {
  const open = run.controls.filter((c) => c.state === "waiting" || c.state === "running");
  if (open.length === 0) return null;
  const here = open.filter((c) => c.place === "here").length;
  const said = [here ? `${counted(here, "cell")} here` : "", open.length - here ? `${counted(open.length - here, "cell")} on the gate baseline` : ""].filter(Boolean).join(" and ");
  return <div className="soft">Repeating {said}, to tell whether the change did it, something outside of it, or chance.</div>;
}

/** What is known beside the sentence while nothing is decided yet: when it will be, or what it waits for. */
function progress(run: Run): string {
  if (run.run.ended_at) return run.run.sentence;
  const open = run.cells.filter((c) => c.selected && !c.gated && (c.state === "running" || c.state === "waiting"));
  const stuck = open.find((c) => c.stuck);
  const ends = stuck ? [] : open.map((c) => (c.predicted === null ? NaN : (c.starts_in ?? 0) + c.predicted));
  if (run.reason && open.length === 0) return `Undecided: ${run.reason}.`;
  const said = [run.run.sentence];
  if (ends.length && ends.every((e) => e < 86_400)) said.push(`About ${duration(Math.max(...ends))} in all.`);
  if (stuck) said.push(`${stuck.job} ${stuck.key} waits: ${stuck.reason}.`);
  return said.join(" ");
}
