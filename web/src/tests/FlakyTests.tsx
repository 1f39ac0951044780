import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { flakyQuery } from "../app/queries";
import type { Flake } from "../api/client";
import { Loading, Trouble } from "../app/Awaited";
import { counted } from "../app/words";
import { SetAside } from "../findings/SetAside";
import { Estimate } from "./Estimate";
import classes from "./tests.module.css";

/** All that are proposed for quarantine, in one go. */
function Proposed({ project, tests }: { project: string; tests: Flake[] }) {
  const [open, setOpen] = useState(false);
  if (tests.length < 2) return null;
  return (
    <div>
      <button type="button" className="plain" aria-expanded={open} onClick={() => setOpen(!open)}>
        Quarantine all {tests.length} that are proposed …
      </button>
      {open && <SetAside project={project} tests={tests} onDone={() => setOpen(false)} />}
    </div>
  );
}

/** Tests with signs of chance or in quarantine, the most costly first. */
export function FlakyTests() {
  const { project = "" } = useParams();
  const found = useQuery(flakyQuery(project));
  if (!found.data) return found.error ? <Trouble what="The flaky tests" error={found.error} onAgain={() => void found.refetch()} /> : <Loading what="The flaky tests" rows={8} />;
  const { tests, ended, runs, more } = found.data;
  const sure = tests.filter((t) => t.flaky).length;
  const aside = tests.filter((t) => t.quarantine).length;
  return (
    <div className={classes.page}>
      <p className="soft">
        <Link to={`/p/${encodeURIComponent(project)}`}>{project}</Link>
      </p>
      <h1>Flaky tests</h1>
      <p className={classes.said}>
        {tests.length === 0
          ? `No test has shown a sign of chance in the newest ${runs} runs.`
          : `${counted(tests.length + more, "test")} with signs of chance in the newest ${runs} runs; ${sure} surely flaky, ${aside} in quarantine.`}
      </p>
      <Proposed project={project} tests={tests.filter((t) => t.proposed && !t.quarantine)} />
      <ul className={classes.flaky}>
        {tests.map((t) => (
          <li key={t.test}>
            <h2>
              <Link to={`/p/${encodeURIComponent(project)}/tests/${t.test}`}>{t.title}</Link> <span className="soft">{t.job}</span>
            </h2>
            <Estimate flake={t} project={project} />
          </li>
        ))}
      </ul>
      {more > 0 && <p className="soft">{counted(more, "more test")} with some sign of chance, less costly, not listed here.</p>}
      {ended.length > 0 && (
        <>
          <h2>Quarantines that are over</h2>
          <ul>
            {ended.map((past) => (
              <li key={past.id}>
                <Link to={`/p/${encodeURIComponent(project)}/tests/${past.test}`}>{past.title}</Link>{" "}
                <span className="soft">
                  {past.at.slice(0, 10)} to {past.ended_at?.slice(0, 10)}: {past.ended_why}
                </span>
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  );
}
