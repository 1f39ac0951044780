import { Button } from "@mantine/core";
import { counted } from "../app/words";
import type { PlanProblem } from "../api/client";
import { repairName } from "./Editor";
import { withEdits } from "./edits";
import classes from "./plan.module.css";

interface Props {
  problems: PlanProblem[];
  text: string;
  onText: (text: string) => void;
  onPlace: (line: number) => void;
}

/** Every problem with its place, reason and mend; where the mend is mechanical, one press carries it out. */
export function Problems({ problems, text, onText, onPlace }: Props) {
  if (problems.length === 0) return null;
  const mechanical = problems.filter((p) => p.edits?.length);
  return (
    <div className={classes.problems} data-testid="problems">
      {mechanical.length > 1 && (
        <div className={classes.all}>
          <span className="soft">{counted(mechanical.length, "problem")} can be repaired at once</span>
          <Button size="compact-xs" variant="default" onClick={() => onText(withEdits(text, apart(mechanical)))}>
            Repair them all
          </Button>
        </div>
      )}
      <ul>
        {problems.slice(0, 200).map((p, i) => (
          <li key={i} data-level={p.level}>
            <button type="button" className={`plain mono ${classes.place ?? ""}`} title="Go to this place" onClick={() => onPlace(p.line)}>
              {p.line}:{p.column}
            </button>
            <span>
              {p.message}
              {!p.edits?.length && <span className="soft"> · {p.mend}</span>}
            </span>
            {p.edits && p.edits.length > 0 && (
              <Button size="compact-xs" variant="outline" onClick={() => onText(withEdits(text, p.edits ?? []))}>
                {repairName(p)}
              </Button>
            )}
          </li>
        ))}
      </ul>
      {problems.length > 200 && <p className="soft">and {problems.length - 200} more</p>}
    </div>
  );
}

/** The edits of problems that do not touch each other; the rest waits for the next time. */
function apart(problems: PlanProblem[]): NonNullable<PlanProblem["edits"]> {
  const taken: NonNullable<PlanProblem["edits"]> = [];
  const lines = new Set<number>();
  for (const p of problems) {
    const edits = p.edits ?? [];
    const mine = edits.flatMap((e) => Array.from({ length: e.end_line - e.line + 1 }, (_, i) => e.line + i));
    if (mine.some((l) => lines.has(l))) continue;
    mine.forEach((l) => lines.add(l));
    taken.push(...edits);
  }
  return taken;
}
