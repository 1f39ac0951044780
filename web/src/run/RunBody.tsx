import { lazy, Suspense } from "react";
import { Loading } from "../app/Awaited";
import { sections, useAddress, type Section } from "../app/address";
import { useActions } from "../app/keys";
import type { Run } from "../api/client";
import { Findings } from "../findings/Findings";
import { Sent } from "../sent/Sent";
import { Header } from "./Header";
import classes from "./run.module.css";

const Change = lazy(() => import("../change/Change").then((m) => ({ default: m.Change })));
const Coverage = lazy(() => import("../coverage/Coverage").then((m) => ({ default: m.Coverage })));
const Evidence = lazy(() => import("../evidence/Evidence").then((m) => ({ default: m.Evidence })));
const Matrix = lazy(() => import("../matrix/Matrix").then((m) => ({ default: m.Matrix })));
const Tests = lazy(() => import("../tests/Tests").then((m) => ({ default: m.Tests })));

const titles: Record<Section, string> = { findings: "Findings", matrix: "Matrix", tests: "Tests", coverage: "Coverage", evidence: "Evidence", sent: "Sent", change: "The change" };

/** The selected run against its baseline: header, what must hold, and sections. `stale`: the next run still loads. */
export function RunBody({ run, now, stale = false }: { run: Run; now: number; stale?: boolean }) {
  const [address, go] = useAddress();
  const to = (section: Section) => () => go({ section }, true);
  useActions({
    findings: to("findings"),
    matrix: to("matrix"),
    tests: to("tests"),
    coverage: to("coverage"),
    evidence: to("evidence"),
    sent: to("sent"),
    change: to(address.section === "change" ? "findings" : "change"),
  });
  const shown: readonly Section[] = address.section === "change" ? [...sections, "change"] : sections;
  return (
    <div className={classes.body} data-stale={stale} aria-busy={stale}>
      <Header run={run} now={now} />
      <div className={classes.tabs} role="tablist" aria-label="Sections">
        {shown.map((section) => (
          <button
            key={section}
            type="button"
            role="tab"
            id={`tab-${section}`}
            aria-selected={address.section === section}
            aria-controls="section"
            className={`plain ${classes.tab ?? ""}`}
            onClick={() => go({ section })}
          >
            <i aria-hidden="true" />
            {titles[section]}
            {section === "matrix" && <span className="tabular">{run.cells.length}</span>}
          </button>
        ))}
      </div>
      <section id="section" role="tabpanel" aria-labelledby={`tab-${address.section}`} className={classes.section}>
        <Suspense fallback={<Loading what={titles[address.section]} />}>
        {address.section === "findings" && <Findings run={run} />}
        {address.section === "matrix" && <Matrix run={run} />}
        {address.section === "tests" && <Tests key={`${run.project} ${run.run.number}`} run={run} />}
        {address.section === "coverage" && <Coverage run={run} />}
        {address.section === "evidence" && <Evidence run={run} />}
        {address.section === "sent" && <Sent run={run} now={now} />}
        {address.section === "change" && <Change run={run} />}
        </Suspense>
      </section>
    </div>
  );
}
