import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useAddress } from "../app/address";
import { Loading, Trouble } from "../app/Awaited";
import { useActions } from "../app/keys";
import { findingsQuery } from "../app/queries";
import { counted } from "../app/words";
import type { Cell, Findings as Found, Rule, Run, TroubledCells } from "../api/client";
import { FindingRow } from "./FindingRow";
import classes from "./findings.module.css";
import { CellFinding, OtherRow, RuleFinding } from "./Others";
import { PlanProblems } from "./PlanProblems";

/** Cells that no runner can take, by reason, as the cells are told that gave no result. */
function stuckIn(cells: Cell[]): TroubledCells[] {
  const stuck = cells.filter((c) => c.stuck);
  return [...new Set(stuck.map((c) => c.reason))].map((reason) => {
    const mine = stuck.filter((c) => c.reason === reason);
    const jobs = new Set(mine.map((c) => c.job));
    return { state: "waiting", mark: "waiting", reason, told: null, line: "", cells: mine, of: cells.filter((c) => c.selected && jobs.has(c.job)).length };
  });
}

/** What did not pass, by cause, most important first; opening a row shows all its evidence in place. */
export function Findings({ run }: { run: Run }) {
  const [address, go] = useAddress();
  const found = useQuery(findingsQuery(run.project, run.run.number, address.base));
  const [cursor, setCursor] = useState(0);
  const chosen = new Set(address.cells);
  const listed = (found.data?.findings ?? []).filter((f) => chosen.size === 0 || f.cells.some((c) => chosen.has(`${c.job}/${c.key}`)));
  const move = (by: number) => setCursor((at) => Math.min(Math.max(0, at + by), listed.length - 1));
  const toggle = (finding: string) => go({ finding: address.finding === finding ? undefined : finding }, true);
  useActions({
    down: () => move(1),
    up: () => move(-1),
    open: () => listed[cursor] && toggle(listed[cursor].id),
    away: () => go({ finding: "" }, true),
  });
  if (!found.data) return found.error ? <Trouble what="What was found" error={found.error} onAgain={() => void found.refetch()} /> : <Loading what="What was found" />;
  const { others } = found.data;
  const troubled = [...found.data.troubled, ...stuckIn(run.cells)].filter((t) => chosen.size === 0 || t.cells.some((c) => chosen.has(`${c.job}/${c.key}`)));
  const rules = chosen.size ? [] : run.judged.filter((r) => !r.met && r.measure !== "" && r.measure !== "tests.new");
  const causes = [...rules].sort((a, b) => Number(a.level === "warn") - Number(b.level === "warn"));
  const only = listed.length === 1 && troubled.length === 0;
  const nothing = listed.length === 0 && troubled.length === 0 && run.problems.length === 0;
  return (
    <>
      <p className={classes.intro}>{intro(found.data, run, chosen.size, listed.length)}</p>
      {nothing && rules.length === 0 && run.run.verdict === "held" && <p className={classes.reason}>{run.run.sentence}</p>}
      {(listed.length > 0 || troubled.length > 0 || rules.length > 0 || others.length > 0) && (
        <ul className={classes.list} data-testid="findings">
          {troubled.map((trouble, i) => (
            <CellFinding key={i} trouble={trouble} />
          ))}
          {listed.map((finding, i) => (
            <FindingRow
              key={finding.id}
              finding={finding}
              run={run}
              open={address.finding === finding.id || (only && address.finding === undefined)}
              current={i === cursor}
              onToggle={() => toggle(finding.id)}
            />
          ))}
          {causes.map((rule) => (
            <RuleFinding key={rule.name} rule={rule} follows={followed(rule, troubled)} />
          ))}
          {chosen.size === 0 && others.map((other) => <OtherRow key={other.kind} other={other} run={run} />)}
        </ul>
      )}
      {run.problems.length > 0 && <PlanProblems problems={run.problems} project={run.project} />}
      {found.data.more > 0 && <p className="soft">{counted(found.data.more, "more cause")} not listed here.</p>}
    </>
  );
}

/** What a rule may only follow from: nothing can be measured in a cell that gave no result. */
export function followed(rule: Rule, troubled: TroubledCells[]): string {
  if (rule.value !== null || troubled.length === 0) return "";
  const mute = troubled.filter((t) => t.state !== "failed").flatMap((t) => t.cells);
  if (mute.length === 0) return "";
  const named = mute.slice(0, 2).map((c) => `${c.job} ${c.key}`.trim()).join(", ");
  return `may follow from ${named}${mute.length > 2 ? ` and ${counted(mute.length - 2, "more cell")}` : ""}`;
}

function intro(found: Found, run: Run, chosen: number, causes: number): string {
  const against = found.baseline ? `against #${found.baseline.number}` : "with nothing before to compare with, so every failure counts as new";
  const parts = [
    [found.tests.new ?? 0, "newly failing"],
    [found.tests.first ?? 0, "failing with a first result here"],
    [found.tests.known ?? 0, "known to fail"],
    [found.tests.quarantined ?? 0, "quarantined"],
    [found.tests.flaky ?? 0, "flaky, passed when run again"],
    [found.movable ? found.fixed : 0, "fixed"],
    [found.vanished, "vanished"],
  ] as const;
  const said = parts.filter(([n]) => n > 0).map(([n, what]) => `${n} ${what}`);
  // the gate baseline may be clear: what is fixed failed in a run between
  const again = !found.movable && found.fixed > 0 ? ` ${counted(found.fixed, "test")} that failed before ${found.fixed === 1 ? "passes" : "pass"} again.` : "";
  const failing = found.findings.reduce((sum, f) => sum + f.tests.length + f.more_tests, 0);
  const open = run.run.verdict === "undecided" ? " so far" : "";
  const narrowed = chosen > 0 ? `, only ${counted(chosen, "chosen cell")}` : "";
  const grouped = causes > 0 && failing > causes ? ` ${counted(causes, "cause")}.` : "";
  const asked = run.cells.filter((c) => c.selected && !c.gated).length;
  const mute = run.cells.filter((c) => c.selected && !c.gated && c.state === "void").length;
  const failed = found.troubled.filter((t) => t.state === "failed").reduce((sum, t) => sum + t.cells.length, 0);
  if (said.length === 0 && mute === 0 && failed > 0) return `No test failed${open}, but a step did in ${counted(failed, "cell")}, ${against}${narrowed}.`;
  const nobody = asked === 1 ? "Its only cell gave no result" : `None of its ${asked} cells gave a result`;
  if (said.length === 0 && mute > 0 && mute === asked) return `${nobody} that can be trusted${open}, ${against}${narrowed}.`;
  if (said.length === 0 && mute > 0) return `${counted(mute, "cell")} gave no result that can be trusted${open}; in the others ${failed > 0 ? `no test failed, but a step did in ${failed}` : "nothing failed"}, ${against}${narrowed}.${again}`;
  return said.length ? `Tests${open} ${against}${narrowed}: ${said.join(", ")}.${grouped}${again}` : `Nothing failed${open}, ${against}${narrowed}.${again}`;
}
