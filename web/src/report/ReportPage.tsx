import { useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import type { BranchReport, Fewer, Rankings, ReportRow } from "../api/client";
import { Awaited } from "../app/Awaited";
import { fewerQuery, rankingsQuery, reportQuery, trendsQuery, type ReportAsked } from "../app/queries";
import { counted, duration, exactDay, middle } from "../app/words";
import { StatusMark } from "../marks/StatusMark";
import { chartsOf, rowsOf, within } from "../trends/charts";
import { Plot } from "../trends/Plot";
import classes from "./report.module.css";

const spans = [7, 30, 90];
const drawn = ["failures", "seconds", "coverage"]; // of the charts of Trends

/** Some days of a branch on paper: what held, what differs from before, and where effort would pay. */
export function ReportPage() {
  const { project = "" } = useParams();
  const [query, setQuery] = useSearchParams();
  const branch = query.get("branch") ?? undefined;
  const beside = query.get("beside") ?? undefined;
  const release = query.get("release") ?? undefined;
  const days = Number(query.get("days")) || 30;
  const asked: ReportAsked = release === undefined ? { days, branch, beside } : { release, beside };
  const found = useQuery(reportQuery(project, asked));
  const set = (values: Record<string, string>) =>
    setQuery((now) => {
      for (const [key, value] of Object.entries(values)) {
        if (value) now.set(key, value);
        else now.delete(key);
      }
      return now;
    });
  const releases = found.data?.releases ?? [];
  const wanted = new URLSearchParams(Object.entries(asked).flatMap(([k, v]) => (v === undefined ? [] : [[k, String(v)]])));
  return (
    <article className={classes.page}>
      <div className={classes.tools}>
        {spans.map((n) => (
          <button key={n} type="button" className="plain" aria-pressed={release === undefined && days === n} onClick={() => set({ days: String(n), release: "", beside: release === undefined ? (beside ?? "") : "" })}>
            {n} days
          </button>
        ))}
        {releases.length > 0 && (
          <label>
            or the way to{" "}
            <select value={release ?? ""} onChange={(event) => set({ release: event.currentTarget.value, beside: "" })}>
              <option value="">a release</option>
              {releases.map((r) => (
                <option key={r}>{r}</option>
              ))}
            </select>
          </label>
        )}
        {release === undefined ? (
          <form
            onSubmit={(event) => {
              event.preventDefault();
              const branch = new FormData(event.currentTarget).get("beside");
              set({ beside: typeof branch === "string" ? branch.trim() : "" });
            }}
          >
            <label>
              beside the branch <input key={beside} name="beside" defaultValue={beside} placeholder="the days before" maxLength={500} />
            </label>
          </form>
        ) : (
          <label>
            beside{" "}
            <select value={beside ?? ""} onChange={(event) => set({ beside: event.currentTarget.value })}>
              <option value="">the release before</option>
              {releases.filter((r) => r !== release).map((r) => (
                <option key={r}>{r}</option>
              ))}
            </select>
          </label>
        )}
        <button type="button" className="plain" onClick={() => window.print()}>
          Print
        </button>
        <a href={`/api/v1/projects/${encodeURIComponent(project)}/report.pdf?${wanted.toString()}`}>As PDF</a>
      </div>
      <Awaited of={found} what="The report" rows={9}>
        {(report) => <Told project={project} report={report} branch={branch} />}
      </Awaited>
    </article>
  );
}

function Told({ project, report, branch }: { project: string; report: BranchReport; branch: string | undefined }) {
  const rankings = useQuery(rankingsQuery(project)).data;
  const fewer = useQuery(fewerQuery(project)).data;
  return (
    <>
      <p className={classes.head}>
        {project} · {report.now.branch} · {exactDay(report.now.since)} to {exactDay(report.now.until)}
      </p>
      <h1>{report.said}</h1>
      {report.cut && <p className="soft">There are more runs than are looked at: the oldest are left out.</p>}
      {report.rows.length > 0 && <Rows report={report} />}
      {report.now.runs > 1 && <Charts project={project} report={report} branch={branch} />}
      {report.changes.length > 0 && (
        <section>
          <h2>Changes of level</h2>
          <ul>
            {report.changes.map((c) => (
              <li key={`${c.measure} ${c.run}`}>
                <StatusMark mark={c.worse ? "new" : "fixed"} size={12} label={c.worse ? "for the worse" : "for the better, or neither"} /> {c.said}: <Link to={`/p/${project}/runs/${c.run}`}>{middle(c.title, 70)}</Link>
              </li>
            ))}
          </ul>
        </section>
      )}
      {rankings && rankings.runs > 0 && rankings.branch === report.now.branch && <Pays project={project} rankings={rankings} />}
      {fewer && fewer.length > 0 && <Matrix fewer={fewer} />}
    </>
  );
}

function Rows({ report }: { report: BranchReport }) {
  return (
    <div className={classes.wide} tabIndex={0} role="region" aria-label="What was measured">
      <table>
        <thead>
          <tr>
            <th scope="col" />
            <th scope="col">{report.now.title}</th>
            <th scope="col">{report.before.title}</th>
            <th scope="col">the difference is</th>
          </tr>
        </thead>
        <tbody>
          {report.rows.map((row) => (
            <tr key={row.title}>
              <th scope="row">{row.title}</th>
              <td>{row.now}</td>
              <td>{row.before}</td>
              <td>
                <Difference row={row} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Difference({ row }: { row: ReportRow }) {
  if (row.better === null) return <span className="soft">{row.said}</span>;
  return (
    <>
      <StatusMark mark={row.better ? "fixed" : "new"} size={12} label={row.better ? "better" : "worse"} /> {row.better ? "better" : "worse"}, {row.said}
    </>
  );
}

function Charts({ project, report, branch }: { project: string; report: BranchReport; branch: string | undefined }) {
  const trends = useQuery(trendsQuery(project, branch, 2000)).data;
  if (!trends) return null;
  const every = rowsOf(trends.runs);
  const inside = every.filter((r) => Date.parse(r.at) >= Date.parse(report.now.since) && Date.parse(r.at) <= Date.parse(report.now.until));
  const { runs, changes } = within(every, trends.changes, inside[0]?.number, inside.at(-1)?.number);
  return (
    <div className={classes.charts}>
      {chartsOf(runs, changes)
        .filter((chart) => drawn.includes(chart.id) && !chart.empty)
        .map((chart) => (
          <figure key={chart.id} aria-label={chart.title}>
            <figcaption>{chart.title}</figcaption>
            <Plot chart={chart} runs={runs} height={150} onRun={() => undefined} />
          </figure>
        ))}
    </div>
  );
}

const SHOWN = 5;

function Pays({ project, rankings }: { project: string; rankings: Rankings }) {
  const { failing, slow, files, endings } = rankings;
  return (
    <section>
      <h2>Where effort would pay</h2>
      <p>{rankings.said}</p>
      <div className={classes.lists}>
        {failing.length > 0 && (
          <List title="Tests that failed most">
            {failing.slice(0, SHOWN).map((t) => (
              <li key={t.test}>
                <Link to={`/p/${project}/tests/${t.test}`}>{middle(t.title, 60)}</Link>: {counted(t.runs, "run")}, {t.held} of them held
              </li>
            ))}
          </List>
        )}
        {slow.length > 0 && (
          <List title="Tests that take longest">
            {slow.slice(0, SHOWN).map((t) => (
              <li key={t.test}>
                <Link to={`/p/${project}/tests/${t.test}`}>{middle(t.title, 60)}</Link>: {duration(t.seconds)}
              </li>
            ))}
          </List>
        )}
        {files.length > 0 && (
          <List title="Files whose changes broke most">
            {files.slice(0, SHOWN).map((f) => (
              <li key={f.path}>
                <span className="mono">{middle(f.path, 50)}</span>: {f.broke} of {counted(f.changes, "change")}
              </li>
            ))}
          </List>
        )}
        {endings.length > 0 && (
          <List title="Why cells failed">
            {endings.slice(0, SHOWN).map((e) => (
              <li key={e.said}>
                {e.said}: {counted(e.cells, "cell")}, {duration(e.minutes * 60)}
              </li>
            ))}
          </List>
        )}
      </div>
    </section>
  );
}

function List({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <div>
      <h3>{title}</h3>
      <ol>{children}</ol>
    </div>
  );
}

function Matrix({ fewer }: { fewer: Fewer[] }) {
  return (
    <section>
      <h2>Fewer cells</h2>
      <ul>
        {fewer.map((f) => (
          <li key={f.job}>
            {fewer.length > 1 && <b>{f.job}: </b>}
            {f.said}
          </li>
        ))}
      </ul>
    </section>
  );
}
