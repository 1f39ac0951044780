import { lazy, Suspense, useState } from "react";
import { Link } from "react-router";
import { useAddress, written, type Section } from "../app/address";
import type { Rule, Run } from "../api/client";
import { exactDay } from "../app/words";
import { VerdictMark } from "../marks/StatusMark";
import classes from "./run.module.css";

const WaiveIt = lazy(() => import("./WaiveIt").then((m) => ({ default: m.WaiveIt })));

/** What must hold for the run to be clear, each rule in a sentence that leads to its evidence. */
export function MustHold({ run }: { run: Run }) {
  const open = run.run.verdict === "undecided";
  return (
    <aside className={classes.hold} aria-label="What must hold" data-testid="gate">
      <h2>What must hold</h2>
      <ul>
        {run.judged.map((rule) => (
          <Held key={`${rule.name}/${rule.line}`} rule={rule} run={run} />
        ))}
      </ul>
      {run.judged.length === 0 && (
        <p className="soft">{open ? (run.run.ended_at ? `Not judged: ${run.reason}.` : "It is judged when the last cell has ended.") : run.reason || "No rule had to be judged."}</p>
      )}
    </aside>
  );
}

function Held({ rule, run }: { rule: Rule; run: Run }) {
  const [address] = useAddress();
  const [waiving, setWaiving] = useState(false);
  const where = rule.line > 0 ? `myriant.toml, line ${rule.line}` : "built in";
  return (
    <li data-met={rule.met} data-level={rule.waived ? "waived" : rule.level} title={`${where}${rule.reason ? `; ${rule.reason}` : ""}`}>
      <VerdictMark verdict={rule.met ? "clear" : rule.level === "warn" || rule.waived ? "undecided" : "held"} size={11} />
      <span>
        <Link to={written({ ...address, section: sectionOf(rule) })} className={classes.rule}>
          {rule.name}
        </Link>
        <span className="soft">
          {": "}
          {saysOf(rule)}
          {rule.level === "warn" && !rule.met && "; it only warns"}
          {rule.level === "off" && "; it is switched off"}
          {rule.waived && <Waived by={rule.waived} />}
        </span>
        {waivable(rule, run) && (
          <>
            {" "}
            <button className={classes.waive} aria-expanded={waiving} onClick={() => setWaiving(!waiving)}>
              Waive it …
            </button>
          </>
        )}
        <Suspense fallback={null}>{waiving && <WaiveIt rule={rule} run={run} onDone={() => setWaiving(false)} />}</Suspense>
      </span>
    </li>
  );
}

function Waived({ by }: { by: NonNullable<Rule["waived"]> }) {
  return (
    <>
      ; waived by {by.by} until {exactDay(by.until)}: “{by.reason}”
    </>
  );
}

/** Only a rule of the plan that holds the run, and was measured. */
export const waivable = (rule: Rule, run: Run) => !rule.met && rule.level === "block" && !rule.built_in && rule.value !== null && !rule.waived && run.run.verdict === "held" && run.run.ended_at !== null;

/** A rule's outcome in words: what was found, and what may be. */
export function saysOf(rule: Rule): string {
  if (rule.built_in) {
    if (rule.met) return rule.reason ? `yes, but ${rule.reason}` : "yes";
    const found = rule.measure.startsWith("tests.") ? `${rule.value ?? ""} found, none allowed` : rule.value && rule.measure ? `no, ${rule.value}` : "no";
    return [found, rule.reason].filter(Boolean).join("; ");
  }
  const found = rule.value ?? (rule.met ? "nothing to measure" : "not measured");
  const of = counts(rule.measure) && rule.value !== null ? `${found === "0" ? "none" : found} found` : found;
  if (rule.limit === null) return [of, rule.reason].filter(Boolean).join("; ");
  return `${of}, ${allowed(rule)}${rule.reason ? `; ${rule.reason}` : ""}`;
}

const counts = (measure: string) => /^(tests|results|analysis)\./.test(measure) && measure !== "tests.share-passed";

function allowed(rule: Rule): string {
  const baseline = !rule.against_baseline ? "" : rule.best_of > 1 ? ` (the best of the last ${rule.best_of})` : " (the baseline's)";
  if (rule.limit === "0" && rule.sign === "at-most") return `none allowed${baseline}`;
  return `${rule.sign.replace("-", " ")} ${rule.limit ?? ""}${baseline}`;
}

function sectionOf(rule: Rule): Section {
  if (rule.measure.startsWith("coverage.")) return "coverage";
  if (rule.measure === "tests.vanished" || rule.measure === "tests.newly-skipped") return "tests";
  if (rule.measure.startsWith("tests.")) return "findings";
  return rule.measure === "plan.loosened" ? "change" : "evidence";
}
