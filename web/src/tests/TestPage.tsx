import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { testQuery } from "../app/queries";
import { Loading, Trouble } from "../app/Awaited";
import { counted, duration } from "../app/words";
import { Estimate } from "./Estimate";
import { PastGrid } from "./PastGrid";
import { Times } from "./Times";
import classes from "./tests.module.css";

/** One test over its whole history: outcomes by commit and cell, durations, failures by signature, flake estimate. */
export function TestPage() {
  const { project = "", test = "" } = useParams();
  const found = useQuery(testQuery(project, Number(test)));
  if (!found.data) return found.error ? <Trouble what="This test" error={found.error} onAgain={() => void found.refetch()} /> : <Loading what="This test" rows={8} />;
  const t = found.data;
  const ran = t.results.filter((r) => r.outcome !== "skipped");
  const failed = ran.filter((r) => r.outcome === "failed" || r.outcome === "errored").length;
  const to = (run: number) => `/p/${encodeURIComponent(project)}/runs/${run}`;
  return (
    <div className={classes.page}>
      <p className="soft">
        <Link to={`/p/${encodeURIComponent(project)}`}>{project}</Link> › {[t.job, t.kind === t.job ? "" : t.kind, t.suite].filter(Boolean).join(" › ")}
      </p>
      <h1>{t.title}</h1>
      <p className={classes.said}>
        {failed === 0 ? `It has passed in all of its ${counted(ran.length, "result")}` : `It failed in ${failed} of its ${counted(ran.length, "result")}`} over {counted(t.runs.length, "run")} and{" "}
        {counted(t.cells.length, "cell")}.
        {t.earlier.map((e) => (
          <span key={e.title}>
            {" "}
            Until <Link to={to(e.run)}>#{e.run}</Link> it was <i>{e.title}</i>: {e.because}.
          </span>
        ))}
      </p>
      <h2>Outcomes by run and cell</h2>
      <PastGrid test={t} to={to} />
      <div className={classes.columns}>
        <section>
          <h2>Durations</h2>
          <Times test={t} />
          {t.changes.map((c) => (
            <p key={c.run}>
              {c.now > c.before ? "Slower" : "Faster"} since <Link to={to(c.run)}>#{c.run}</Link>: {duration(c.before)} → {duration(c.now)}.
            </p>
          ))}
        </section>
        <section>
          <h2>How steady it is</h2>
          <Estimate flake={t.flake} project={project} />
          <h2>Failures by signature</h2>
          {t.failures.length === 0 ? (
            <p className="soft">None is known.</p>
          ) : (
            <ul className={classes.failures}>
              {t.failures.map((f) => (
                <li key={f.signature}>
                  <Link to={`${to(f.last)}?finding=${encodeURIComponent(f.signature)}`} className="mono">
                    {f.message.split("\n", 1)[0]}
                  </Link>
                  <span className="soft">
                    {counted(f.runs, "run")}, last #{f.last}
                  </span>
                </li>
              ))}
            </ul>
          )}
        </section>
      </div>
    </div>
  );
}
