import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { useAddress } from "../app/address";
import { coverageQuery } from "../app/queries";
import { counted, short } from "../app/words";
import { CallError, type Run, type RunCoverage } from "../api/client";
import { Loading, Trouble } from "../app/Awaited";
import { Excerpts } from "./Excerpts";
import { ByCell } from "./ByCell";
import { Files } from "./Files";
import { FileView } from "./FileView";
import { finer, ranges, written } from "./shapes";
import classes from "./coverage.module.css";

const Treemap = lazy(() => import("./Treemap").then((m) => ({ default: m.Treemap })));
const SHOWN = 8;

/** Which lines of this change nothing ran, what is reached no more, and every file. */
export function Coverage({ run }: { run: Run }) {
  const [address, go] = useAddress();
  const found = useQuery(coverageQuery(run.project, run.run.number, address.job, address.base));
  if (found.error instanceof CallError && found.error.status === 404) return <p className={classes.intro}>{found.error.message}.</p>;
  if (!found.data) return found.error ? <Trouble what="The coverage" error={found.error} onAgain={() => void found.refetch()} /> : <Loading what={`The coverage of #${run.run.number}`} rows={6} />;
  const data = found.data;
  if (address.file !== undefined) return <FileView run={run} path={address.file} commit={data.commit} />;
  const open = (file: string, line?: number) => go({ file, line });
  return (
    <>
      <p className={classes.intro}>
        {data.said}
        {finer(data)}
      </p>
      <Choosing data={data} run={run} />
      <Change data={data} run={run} onOpen={open} />
      <Lost data={data} onOpen={open} />
      {data.files.length > 1 && (
        <Suspense fallback={null}>
          <Treemap files={data.files} onOpen={open} />
        </Suspense>
      )}
      <Files project={run.project} job={address.job} files={data.files} onOpen={open} />
      {run.cells.length > 1 && <ByCell run={run} />}
    </>
  );
}

function Choosing({ data, run }: { data: RunCoverage; run: Run }) {
  const [address, go] = useAddress();
  const as = (form: string) => `/api/v1/projects/${encodeURIComponent(run.project)}/runs/${run.run.number}/coverage.${form}${address.job ? `?job=${encodeURIComponent(address.job)}` : ""}`;
  return (
    <div className={classes.choosing}>
      {data.jobs.length > 1 && (
        <span role="group" aria-label="Coverage of">
          {["", ...data.jobs].map((job) => (
            <button key={job} type="button" className="plain" aria-pressed={address.job === job} onClick={() => go({ job })}>
              {job === "" ? "all jobs together" : job}
            </button>
          ))}
        </span>
      )}
      {data.against && (
        <span className="soft">
          read against #{data.against_run ?? "?"}, <span className="mono">{short(data.against)}</span>
        </span>
      )}
      <span className="soft">
        as <a href={as("lcov")}>LCOV</a>, <a href={as("cobertura")}>Cobertura</a> or <a href={as("csv")}>CSV</a>
      </span>
    </div>
  );
}

interface Part {
  data: RunCoverage;
  onOpen: (file: string, line?: number) => void;
}

function Change({ data, run, onOpen }: Part & { run: Run }) {
  const { change } = data;
  if (!change.share) return <section className={classes.part} aria-label="The change"><h3>The change</h3><p className="soft">{sentence(change.nothing)}</p></section>;
  const bare = change.files.filter((f) => f.uncovered.length + f.partly.length > 0);
  return (
    <section className={classes.part} aria-label="The change">
      <h3>
        The change <span className="soft">{change.share.text} of {counted(change.share.valid, "changed line")} run</span>
      </h3>
      {bare.length === 0 && <p className="soft">Every changed line that can be covered was run, in every direction.</p>}
      {bare.slice(0, SHOWN).map((file) => (
        <article key={file.path}>
          <div className={classes.fileHead}>
            <button type="button" className={`plain mono ${classes.path ?? ""}`} onClick={() => onOpen(file.path, file.uncovered[0] ?? file.partly[0])}>
              {file.path}
            </button>
            <span className="soft">
              {file.unknown ? `no report names this file; ${counted(file.coverable, "changed line")}` : `${file.covered} of ${counted(file.coverable, "changed line")} run`}
              {file.partly.length > 0 && `, ${file.partly.length} in part`}
            </span>
          </div>
          <Excerpts project={run.project} commit={data.commit} path={file.path} bare={file.uncovered} partly={file.partly} onOpen={(line) => onOpen(file.path, line)} />
        </article>
      ))}
      {bare.length > SHOWN && (
        <ul className={classes.more}>
          {bare.slice(SHOWN).map((file) => (
            <li key={file.path}>
              <button type="button" className="plain mono" onClick={() => onOpen(file.path, file.uncovered[0])}>
                {file.path}
              </button>{" "}
              <span className="soft tabular">{ranges(file.uncovered).slice(0, 12).map(written).join(", ")}</span>
            </li>
          ))}
        </ul>
      )}
      {change.more > 0 && <p className="soft">{counted(change.more, "more changed file")} {change.more === 1 ? "is" : "are"} not listed.</p>}
    </section>
  );
}

function Lost({ data, onOpen }: Part) {
  if (data.lost.length === 0) return null;
  return (
    <section className={classes.part} aria-label="Reached no more">
      <h3>
        Reached no more <span className="soft">lines that did not change, and were run at #{data.against_run}</span>
      </h3>
      <ul className={classes.more}>
        {data.lost.map((file) => (
          <li key={file.path}>
            <button type="button" className="plain mono" onClick={() => onOpen(file.path, file.lines[0])}>
              {file.path}
            </button>{" "}
            <span className="soft tabular">{ranges(file.lines).slice(0, 12).map(written).join(", ")}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

const sentence = (text: string) => `${text.slice(0, 1).toUpperCase()}${text.slice(1)}.`;
