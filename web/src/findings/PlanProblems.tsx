import { useState } from "react";
import { Link } from "react-router";
import type { Run } from "../api/client";
import { counted } from "../app/words";
import run from "../run/run.module.css";
import classes from "./findings.module.css";

type Problem = Run["problems"][number];

/** What is wrong with the plan at this commit: one line, that opens to places and mends. Errors stand open. */
export function PlanProblems({ problems, project }: { problems: Problem[]; project: string }) {
  const errors = problems.filter((p) => p.level === "error").length;
  const [open, setOpen] = useState(errors > 0);
  return (
    <section className={classes.planProblems} aria-label="Problems of the plan">
      <button type="button" className="plain" aria-expanded={open} onClick={() => setOpen(!open)}>
        {headOf(problems)}
      </button>{" "}
      <Link to={`/p/${encodeURIComponent(project)}/plan`}>Look at the plan</Link>
      {open && (
        <ul className={run.problems} data-testid="plan-problems">
          {problems.map((p, i) => (
            <li key={i}>
              <code>
                {p.line}:{p.column}
              </code>
              <div>
                <div>{p.message}</div>
                {p.text && <code className="soft">{p.text}</code>}
                <div className="soft">{p.mend}</div>
              </div>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

/** "Plan: 1 warning, line 24". */
export function headOf(problems: Pick<Problem, "level" | "line">[]): string {
  const errors = problems.filter((p) => p.level === "error").length;
  const said = [errors && counted(errors, "error"), problems.length - errors && counted(problems.length - errors, "warning")].filter(Boolean).join(" and ");
  const lines = [...new Set(problems.map((p) => p.line).filter((l) => l > 0))];
  const shown = lines.slice(0, 4).join(", ");
  return `Plan: ${said}${lines.length ? `, line${lines.length > 1 ? "s" : ""} ${shown}${lines.length > 4 ? " …" : ""}` : ""}`;
}
