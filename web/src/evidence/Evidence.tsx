import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useAddress } from "../app/address";
import { Notice } from "../app/Notice";
import { attemptQuery } from "../app/queries";
import { counted, duration, size } from "../app/words";
import type { Attempt, Cell, Run, Step } from "../api/client";
import { StatusMark } from "../marks/StatusMark";
import { markNamed } from "../marks/shapes";
import classes from "./evidence.module.css";
import { Log } from "./Log";
import { useLog } from "./useLog";

const nameOf = (cell: Cell) => `${cell.job}/${cell.key}`;

/** What happened in one cell: its steps, reports and log. */
export function Evidence({ run }: { run: Run }) {
  const [address, go] = useAddress();
  const chosen = run.cells.find((c) => nameOf(c) === address.cells[0]) ?? mostTelling(run.cells);
  const jobs = [...new Set(run.cells.map((c) => c.job))];
  if (!chosen) return <Notice title="There is no evidence">{run.reason || run.run.sentence}</Notice>;
  return (
    <>
      {jobs.map((job) => (
        <div key={job} className={classes.cells} role="group" aria-label={`Cells of ${job}`}>
          <span className={classes.job}>{job}</span>
          {run.cells
            .filter((c) => c.job === job)
            .map((cell) => (
              <button
                key={cell.id}
                type="button"
                className={`plain ${classes.cell ?? ""}`}
                aria-label={`${cell.job} ${cell.key}: ${cell.state}`}
                aria-pressed={cell.id === chosen.id}
                onClick={() => go({ cells: [nameOf(cell)], line: undefined }, true)}
              >
                <StatusMark mark={markNamed(cell.mark)} size={11} advisory={cell.advisory} />
                {Object.values(cell.values).join(" ") || "its one cell"}
              </button>
            ))}
        </div>
      ))}
      {chosen.attempt_id === null ? (
        <p className={classes.intro}>This cell has not begun: {chosen.reason || chosen.state}.</p>
      ) : (
        <OneAttempt key={chosen.attempt_id} id={chosen.attempt_id} cell={chosen} />
      )}
    </>
  );
}

function mostTelling(cells: Cell[]): Cell | undefined {
  const order = ["new", "first", "void", "known", "running"];
  return [...cells].sort((a, b) => (order.indexOf(a.mark) + 99) % 99 - ((order.indexOf(b.mark) + 99) % 99))[0];
}

function OneAttempt({ id, cell }: { id: number; cell: Cell }) {
  const attempt = useQuery(attemptQuery(id)).data;
  const log = useLog(id);
  const [jump, setJump] = useState<{ offset: number; nonce: number }>();
  if (!attempt) return null;
  return (
    <>
      <p className={classes.intro}>
        Attempt {attempt.number} on {attempt.runner}
        {Object.entries(attempt.runtimes).map(([family, version]) => `, ${family} ${version}`)}: {attempt.state}
        {attempt.reason && `; ${attempt.reason}`}
        {attempt.number > 1 && cell.state !== "running" && ` (earlier attempts: ${attempt.earlier.length})`}.
      </p>
      <div className={classes.split}>
        <div className={classes.side}>
          <ol className={classes.steps} aria-label="Steps">
            {attempt.steps.map((step) => (
              <StepRow key={step.position} step={step} onJump={(offset) => setJump((j) => ({ offset, nonce: (j?.nonce ?? 0) + 1 }))} />
            ))}
          </ol>
          <Reports attempt={attempt} />
        </div>
        {log && <Log attempt={id} log={log} jump={jump} />}
      </div>
    </>
  );
}

const markOfStep: Record<string, string> = { failed: "new", running: "running" };

function StepRow({ step, onJump }: { step: Step; onJump: (offset: number) => void }) {
  const seconds = step.started_at && step.ended_at ? (Date.parse(step.ended_at) - Date.parse(step.started_at)) / 1000 : undefined;
  return (
    <li>
      <button type="button" className={`plain ${classes.step ?? ""}`} onClick={() => step.log_from !== null && onJump(step.log_from)} title={step.reason || undefined}>
        <StatusMark mark={markNamed(markOfStep[step.state] ?? step.state)} size={12} label={step.state} />
        <span>{step.name}</span>
        <span className="soft">
          {step.exit_status ? `exit ${step.exit_status} · ` : ""}
          {seconds === undefined ? step.state : duration(seconds)}
        </span>
        <code>{step.command}</code>
      </button>
    </li>
  );
}

function Reports({ attempt }: { attempt: Attempt }) {
  if (attempt.reports.length === 0) return null;
  return (
    <>
      <h3>Reports and files</h3>
      <ul className={classes.reports}>
        {attempt.reports.map((r) => (
          <li key={r.id}>
            <a href={`/api/v1/reports/${r.id}/raw`}>{r.path}</a> <span className="soft">{size(r.size)}</span>
            <div className="soft">
              {r.content === "tests" ? `${counted(r.total, "test")}: ${r.passed} passed, ${r.failed} failed, ${r.errored} errored, ${r.skipped} skipped` : r.content === "coverage" ? r.kind : [r.content, r.kind].filter(Boolean).join(": ")}
            </div>
            {r.problems.map((p, i) => (
              <div key={i}>{String(p.message)}</div>
            ))}
          </li>
        ))}
      </ul>
    </>
  );
}
