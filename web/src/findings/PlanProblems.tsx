import type { Run } from "../api/client";
import run from "../run/run.module.css";

/** What is wrong with the plan at this commit, with its place and mend. */
export function PlanProblems({ problems }: { problems: Run["problems"] }) {
  return (
    <ul className={run.problems} aria-label="Problems of the plan" data-testid="plan-problems">
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
  );
}
