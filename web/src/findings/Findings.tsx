import { useHotkeys } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useAddress } from "../app/address";
import { Notice } from "../app/Notice";
import { findingsQuery } from "../app/queries";
import { counted } from "../app/words";
import type { Findings as Found, Run } from "../api/client";
import { FindingRow } from "./FindingRow";
import classes from "./findings.module.css";
import { CellFinding, OtherRow, RuleFinding } from "./Others";
import { PlanProblems } from "./PlanProblems";

/** What did not pass, by cause, most important first; opening a row shows all its evidence in place. */
export function Findings({ run }: { run: Run }) {
  const [address, go] = useAddress();
  const found = useQuery(findingsQuery(run.project, run.run.number, address.base));
  const [cursor, setCursor] = useState(0);
  const chosen = new Set(address.cells);
  const listed = (found.data?.findings ?? []).filter((f) => chosen.size === 0 || f.cells.some((c) => chosen.has(`${c.job}/${c.key}`)));
  const troubled = run.cells.filter((c) => c.state === "void" || (c.state === "failed" && c.failed + c.errored === 0) || c.stuck);
  const move = (by: number) => setCursor((at) => Math.min(Math.max(0, at + by), listed.length - 1));
  const toggle = (finding: string) => go({ finding: address.finding === finding ? undefined : finding }, true);
  useHotkeys([
    ["j", () => move(1)],
    ["k", () => move(-1)],
    ["o", () => listed[cursor] && toggle(listed[cursor].id)],
    ["e", () => go({ finding: "" }, true)],
  ]);
  if (found.error) return <Notice title="The findings cannot be shown">{found.error.message}</Notice>;
  if (!found.data) return null;
  const { others, troubled: told } = found.data;
  const rules = chosen.size ? [] : run.judged.filter((r) => !r.met && r.measure !== "" && r.measure !== "tests.new");
  const only = listed.length === 1 && troubled.length === 0;
  const nothing = listed.length === 0 && troubled.length === 0 && run.problems.length === 0;
  return (
    <>
      <p className={classes.intro}>{intro(found.data, run, chosen.size, listed.length)}</p>
      {run.problems.length > 0 && <PlanProblems problems={run.problems} />}
      {nothing && rules.length === 0 && run.run.verdict === "held" && <p className={classes.reason}>{run.run.sentence}</p>}
      {(listed.length > 0 || troubled.length > 0 || rules.length > 0 || others.length > 0) && (
        <ul className={classes.list} data-testid="findings">
          {rules.map((rule) => (
            <RuleFinding key={rule.name} rule={rule} />
          ))}
          {troubled.map((cell) => (
            <CellFinding key={cell.id} cell={cell} told={told.find((t) => t.job === cell.job && t.key === cell.key)?.told ?? undefined} />
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
          {chosen.size === 0 && others.map((other) => <OtherRow key={other.kind} other={other} run={run} />)}
        </ul>
      )}
      {found.data.more > 0 && <p className="soft">{counted(found.data.more, "more cause")} not listed here.</p>}
    </>
  );
}

function intro(found: Found, run: Run, chosen: number, causes: number): string {
  const against = found.baseline ? `against #${found.baseline.number}` : "with no clear ancestor to compare with, so every failure is new";
  const parts = [
    [found.tests.new ?? 0, "newly failing"],
    [found.tests.first ?? 0, "failing with a first result here"],
    [found.tests.known ?? 0, "known to fail"],
    [found.tests.quarantined ?? 0, "quarantined"],
    [found.tests.flaky ?? 0, "flaky, passed when run again"],
    [found.fixed, "fixed"],
    [found.vanished, "vanished"],
  ] as const;
  const said = parts.filter(([n]) => n > 0).map(([n, what]) => `${n} ${what}`);
  const failing = found.findings.reduce((sum, f) => sum + f.tests.length + f.more_tests, 0);
  const open = run.run.verdict === "undecided" ? " so far" : "";
  const narrowed = chosen > 0 ? `, only ${counted(chosen, "chosen cell")}` : "";
  const grouped = causes > 0 && failing > causes ? ` ${counted(causes, "cause")}.` : "";
  return said.length ? `Tests${open} ${against}${narrowed}: ${said.join(", ")}.${grouped}` : `Nothing failed${open}, ${against}${narrowed}.`;
}
