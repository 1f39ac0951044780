import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Attempt, Cell, Run, Step } from "../api/client";
import { evidenceViews, useAddress, type EvidenceView } from "../app/address";
import { Loading, Trouble } from "../app/Awaited";
import { Notice } from "../app/Notice";
import { attemptQuery } from "../app/queries";
import { duration, exact } from "../app/words";
import { StatusMark } from "../marks/StatusMark";
import { markNamed } from "../marks/shapes";
import { Chooser } from "./Chooser";
import classes from "./evidence.module.css";
import { Files } from "./Files";
import { Log } from "./Log";
import { Machine } from "./Machine";
import { Settings } from "./Settings";
import { TimelineView } from "./Timeline";
import { useLogState } from "./useLog";

const nameOf = (cell: Cell) => `${cell.job}/${cell.key}`;
const titles: Record<EvidenceView, string> = { log: "Log", timeline: "Timeline", settings: "Variables", machine: "Machine", files: "Files" };

/** What happened in one cell: steps, log, settings, machine and files; and when, in all of them. */
export function Evidence({ run }: { run: Run }) {
  const [address, go] = useAddress();
  const chosen = run.cells.find((c) => nameOf(c) === address.cells[0]) ?? mostTelling(run.cells);
  if (!chosen) return <Notice title="There is no evidence">{run.reason || run.run.sentence}</Notice>;
  return (
    <>
      {address.view !== "timeline" && <Chooser run={run} chosen={chosen} onChoose={(cell) => go({ cells: [nameOf(cell)], line: undefined, attempt: undefined }, true)} />}
      <div className={classes.views} role="tablist" aria-label="Evidence">
        {evidenceViews.map((view) => (
          <button key={view} type="button" role="tab" aria-selected={address.view === view} className="plain" onClick={() => go({ view }, true)}>
            {titles[view]}
          </button>
        ))}
      </div>
      {address.view === "timeline" ? (
        <TimelineView run={run} />
      ) : chosen.attempt_id === null ? (
        <p className={classes.intro}>This cell has not begun: {chosen.reason || chosen.state}.</p>
      ) : (
        <OneAttempt key={address.attempt ?? chosen.attempt_id} id={address.attempt ?? chosen.attempt_id} run={run} view={address.view} />
      )}
    </>
  );
}

function mostTelling(cells: Cell[]): Cell | undefined {
  const order = ["new", "first", "void", "known", "running"];
  return [...cells].sort((a, b) => (order.indexOf(a.mark) + 99) % 99 - ((order.indexOf(b.mark) + 99) % 99))[0];
}

function OneAttempt({ id, run, view }: { id: number; run: Run; view: EvidenceView }) {
  const asked = useQuery(attemptQuery(id));
  const attempt = asked.data;
  if (!attempt) return asked.error ? <Trouble what="This attempt" error={asked.error} onAgain={() => void asked.refetch()} /> : <Loading what="This attempt" />;
  return (
    <>
      <p className={classes.intro}>
        {nameOfAttempt(attempt)} on {attempt.runner}
        {Object.entries(attempt.runtimes).map(([family, version]) => `, ${family} ${version}`)}: {attempt.state}
        {attempt.reason && `; ${attempt.reason}`}.
        <Others attempt={attempt} />
        {attempt.pruned_at && <b> Its log and files were kept until {exact(attempt.pruned_at)}.</b>}
      </p>
      {view === "log" && <StepsAndLog attempt={attempt} />}
      {view === "settings" && <Settings attempt={attempt} />}
      {view === "machine" && <Machine attempt={attempt} run={run} />}
      {view === "files" && <Files attempt={attempt} run={run} />}
    </>
  );
}

function nameOfAttempt(attempt: { number: number; control: string }): string {
  if (attempt.control === "baseline") return "Control run on the gate baseline";
  if (attempt.control === "here") return "Control run here";
  return `Attempt ${attempt.number}`;
}

/** The other attempts of the cell, one click away. */
function Others({ attempt }: { attempt: Attempt }) {
  const [, go] = useAddress();
  const others = attempt.others.filter((o) => o.id !== attempt.id);
  if (others.length === 0) return null;
  return (
    <>
      {" "}
      See also{" "}
      {others.map((o, i) => (
        <span key={o.id}>
          {i > 0 && ", "}
          <button type="button" className={`plain ${classes.jump ?? ""}`} onClick={() => go({ attempt: o.id, line: undefined }, true)}>
            {nameOfAttempt(o).toLowerCase()}
          </button>{" "}
          ({o.state})
        </span>
      ))}
      .
    </>
  );
}

function StepsAndLog({ attempt }: { attempt: Attempt }) {
  const { state, usual } = useLogState(attempt.id);
  const [jump, setJump] = useState<{ line: number; nonce: number }>();
  const [wanted, setWanted] = useState<number>();
  const lineOf = (step: Step) => usual?.steps.find((s) => s.position === step.position)?.first;
  const ill = attempt.steps.find((s) => s.state !== "passed" && s.state !== "skipped");
  const chosen = attempt.steps.find((s) => s.position === wanted) ?? ill ?? attempt.steps[0];
  return (
    <>
      <ol className={classes.steps} aria-label="Steps">
        {attempt.steps.map((step) => (
          <StepTile
            key={step.position}
            step={step}
            chosen={step === chosen}
            onJump={() => {
              const line = lineOf(step);
              setWanted(step.position);
              if (line !== undefined) setJump((j) => ({ line, nonce: (j?.nonce ?? 0) + 1 }));
            }}
          />
        ))}
      </ol>
      {chosen && (
        <p className={classes.command}>
          <code>{chosen.command}</code>
          {chosen.reason && <span className={classes.reason}>{chosen.reason}</span>}
        </p>
      )}
      {state && <Log attempt={attempt.id} state={state} usual={usual} failed={attempt.state === "failed" || attempt.state === "void"} jump={jump} />}
    </>
  );
}

const markOfStep: Record<string, string> = { failed: "new", running: "running" };

/** A step on the line of its attempt: the longer it took, the wider it is, as far as names leave room. */
function StepTile({ step, chosen, onJump }: { step: Step; chosen: boolean; onJump: () => void }) {
  const seconds = step.started_at && step.ended_at ? (Date.parse(step.ended_at) - Date.parse(step.started_at)) / 1000 : undefined;
  return (
    <li style={{ flexGrow: Math.max(1, Math.round(10 * (seconds ?? 0.1))) }}>
      <button type="button" className={`plain ${classes.step ?? ""}`} data-state={step.state} aria-current={chosen} title={step.command} onClick={onJump}>
        <StatusMark mark={markNamed(markOfStep[step.state] ?? step.state)} size={12} label={step.state} />
        <span>{step.name}</span>
        <span className="soft">
          {step.exit_status ? `exit ${step.exit_status} · ` : ""}
          {seconds === undefined ? step.state : duration(seconds)}
        </span>
      </button>
    </li>
  );
}
