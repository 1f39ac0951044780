import { useHotkeys } from "@mantine/hooks";
import { sections, useAddress, type Section } from "../app/address";
import type { Run } from "../api/client";
import { Coverage } from "../coverage/Coverage";
import { Evidence } from "../evidence/Evidence";
import { Findings } from "../findings/Findings";
import { Matrix } from "../matrix/Matrix";
import { Sent } from "../sent/Sent";
import { Tests } from "../tests/Tests";
import { Header } from "./Header";
import classes from "./run.module.css";

const titles: Record<Section, string> = { findings: "Findings", matrix: "Matrix", tests: "Tests", coverage: "Coverage", evidence: "Evidence", sent: "Sent" };

/** The selected run against its baseline: header, gate card and sections. */
export function RunBody({ run, now }: { run: Run; now: number }) {
  const [address, go] = useAddress();
  useHotkeys(sections.map((section, i) => [String(i + 1), () => go({ section }, true)]));
  const counts: Partial<Record<Section, number>> = { findings: undefined, matrix: run.cells.length };
  return (
    <>
      <Header run={run} now={now} />
      <div className={classes.tabs} role="tablist" aria-label="Sections">
        {sections.map((section) => (
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
            {titles[section]}
            {counts[section] !== undefined && <span className="tabular">{counts[section]}</span>}
          </button>
        ))}
      </div>
      <section id="section" role="tabpanel" aria-labelledby={`tab-${address.section}`} className={classes.section}>
        {address.section === "findings" && <Findings run={run} />}
        {address.section === "matrix" && <Matrix run={run} />}
        {address.section === "tests" && <Tests run={run} />}
        {address.section === "coverage" && <Coverage run={run} />}
        {address.section === "evidence" && <Evidence run={run} />}
        {address.section === "sent" && <Sent run={run} now={now} />}
      </section>
    </>
  );
}
