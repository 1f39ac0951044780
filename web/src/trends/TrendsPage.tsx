import { useQuery } from "@tanstack/react-query";
import { useComputedColorScheme } from "@mantine/core";
import { useMemo, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { SeriesChange, Trends } from "../api/client";
import { Awaited } from "../app/Awaited";
import { save } from "../app/save";
import { trendsQuery } from "../app/queries";
import { counted, duration, exact, middle, short } from "../app/words";
import { StatusMark, VerdictMark } from "../marks/StatusMark";
import { chartsOf, rowsOf, within, type Chart, type TrendRun } from "./charts";
import { drawnAs, Plot } from "./Plot";
import classes from "./trends.module.css";

const spans = [50, 150, 500, 2000];

/** The past of a branch: what held, where its measures changed and by which commit, and what each version found. */
export function TrendsPage() {
  const { project = "" } = useParams();
  const [query, setQuery] = useSearchParams();
  const branch = query.get("branch") ?? undefined;
  const runs = Number(query.get("runs")) || 150;
  const [from, to] = ["from", "to"].map((key) => Number(query.get(key)) || undefined);
  const found = useQuery(trendsQuery(project, branch, runs));
  const tableOf = (form: string) => `/api/v1/projects/${encodeURIComponent(project)}/trends.${form}?runs=${runs}${branch ? `&branch=${encodeURIComponent(branch)}` : ""}`;
  const choose = (key: string, value: string) =>
    setQuery((now) => {
      now.set(key, value);
      return now;
    });
  return (
    <div className={classes.page}>
      <Awaited of={found} what="The trends" rows={9}>
        {(data) => (
          <>
            <h1>{data.said}</h1>
            <div className={classes.tools}>
              <span className="soft">The newest</span>
              {spans.map((n) => (
                <button key={n} type="button" className="plain" aria-pressed={runs === n} onClick={() => choose("runs", String(n))}>
                  {n}
                </button>
              ))}
              <span className="soft">
                runs of {data.branch} ({data.runs.number.length}
                {data.more ? " of more" : ", all there are"}); as <a href={tableOf("csv")}>CSV</a> or <a href={tableOf("parquet")}>Parquet</a>;{" "}
                <Link to={`/p/${project}/report`}>a report to print</Link>
              </span>
              {(from ?? to) !== undefined && (
                <span>
                  Only #{from ?? 1} to #{to ?? "the newest"}{" "}
                  <button type="button" className="plain" onClick={() => setQuery((now) => (now.delete("from"), now.delete("to"), now))}>
                    All of them
                  </button>
                </span>
              )}
            </div>
            {data.runs.number.length > 0 && <Filled project={project} data={data} from={from} to={to} />}
          </>
        )}
      </Awaited>
    </div>
  );
}

function Filled({ project, data, from, to }: { project: string; data: Trends; from: number | undefined; to: number | undefined }) {
  const navigate = useNavigate();
  const [table, setTable] = useState(false);
  const { runs, changes } = useMemo(() => within(rowsOf(data.runs), data.changes, from, to), [data, from, to]);
  const charts = useMemo(() => chartsOf(runs, changes), [runs, changes]);
  const shown = charts.filter((c) => !c.empty);
  return (
    <>
      <Changes project={project} changes={changes} />
      <button type="button" className={`plain ${classes.as ?? ""}`} onClick={() => setTable(!table)}>
        {table ? "As charts" : "As a table"}
      </button>
      {table ? (
        <Table project={project} runs={runs} />
      ) : (
        <div className={classes.charts}>
          {shown.map((chart) => (
            <figure key={chart.id} aria-label={chart.title}>
              <figcaption>
                {chart.title}
                {chart.series.length > 1 && (
                  <span className="soft">
                    {chart.series.map((s) => (
                      <span key={s.name} className={classes.key}>
                        <i style={{ background: `var(--${s.ink})` }} /> {s.name}
                      </span>
                    ))}
                  </span>
                )}
                <Saving chart={chart} runs={runs} project={project} />
              </figcaption>
              <Plot chart={chart} runs={runs} height={170} onRun={(run) => void navigate(`/p/${project}/runs/${run}`)} />
            </figure>
          ))}
        </div>
      )}
      {charts.some((c) => c.empty) && !table && <p className="soft">Nothing to draw: {charts.filter((c) => c.empty).map((c) => c.title.toLowerCase()).join(", ")}.</p>}
      <p>
        <Link to={`/p/${project}/versions`}>What each version found, and what it costs</Link>
      </p>
    </>
  );
}

/** Where a measure has another level, with the commits between which that came. */
function Changes({ project, changes }: { project: string; changes: SeriesChange[] }) {
  const [all, setAll] = useState(false);
  if (changes.length === 0) return <p className="soft">No measure has changed its level in these runs, beyond its usual noise.</p>;
  return (
    <ul className={classes.changes} aria-label="Changes of level">
      {changes.slice(0, all ? undefined : FIRST).map((c) => (
        <li key={`${c.measure} ${c.run}`}>
          <StatusMark mark={c.worse ? "new" : "fixed"} size={12} label={c.worse ? "for the worse" : "for the better, or neither"} />
          <span>
            {c.said}.{" "}
            <span className="soft">
              It came with <Link to={`/p/${project}/runs/${c.run}?section=change`}>{middle(c.title, 70)}</Link> <span className="mono">{short(c.commit)}</span>
              {c.earliest !== c.latest && `, or with another run from #${c.earliest} to #${c.latest}`}.
            </span>
          </span>
        </li>
      ))}
      {changes.length > FIRST && !all && (
        <li>
          <span />
          <button type="button" className="plain" onClick={() => setAll(true)}>
            {counted(changes.length - FIRST, "earlier change")}
          </button>
        </li>
      )}
    </ul>
  );
}

const FIRST = 4; // changes of level that stand there without being asked for

/** A chart as a file. */
function Saving({ chart, runs, project }: { chart: Chart; runs: TrendRun[]; project: string }) {
  const scheme = useComputedColorScheme("light");
  return (
    <span className={classes.saving}>
      {(["SVG", "PNG"] as const).map((form) => (
        <button key={form} type="button" className="plain" aria-label={`${chart.title} as ${form}`} onClick={() => void drawnAs(form, chart, runs, scheme).then((file) => save(file, `${project} ${chart.id}.${form.toLowerCase()}`))}>
          {form}
        </button>
      ))}
    </span>
  );
}

function Table({ project, runs }: { project: string; runs: TrendRun[] }) {
  const [all, setAll] = useState(false);
  const rows = [...runs].reverse();
  return (
    <div className={classes.versions} tabIndex={0} role="region" aria-label="Runs as a table">
      <table>
        <thead>
          <tr>
            {["Run", "Commit", "New", "Known", "Fixed", "Tests", "Skipped", "Passed", "Lines covered", "Took", "First cell after"].map((t) => (
              <th key={t} scope="col">
                {t}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, all ? undefined : 60).map((r) => (
            <tr key={r.number}>
              <td>
                <VerdictMark verdict={r.verdict} /> <Link to={`/p/${project}/runs/${r.number}`}>#{r.number}</Link>
              </td>
              <td title={exact(r.at)}>{middle(r.title, 50)}</td>
              <td>{r.new}</td>
              <td>{r.known}</td>
              <td>{r.fixed}</td>
              <td>{r.tests}</td>
              <td>{r.skipped}</td>
              <td>{r.rate === null ? "" : `${r.rate.toFixed(1)} %`}</td>
              <td>{r.coverage === null ? "" : `${r.coverage.toFixed(1)} %`}</td>
              <td>{r.seconds === null ? "" : duration(r.seconds)}</td>
              <td>{r.waited === null ? "" : duration(r.waited)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length > 60 && !all && (
        <button type="button" className={`plain ${classes.as ?? ""}`} onClick={() => setAll(true)}>
          All {rows.length}
        </button>
      )}
    </div>
  );
}
