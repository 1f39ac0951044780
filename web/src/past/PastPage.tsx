import { NativeSelect, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import type { FoundCause, RunLine } from "../api/client";
import { Awaited } from "../app/Awaited";
import { artifactsQuery, failuresQuery, logsQuery, pastQuery, stripQuery, type RunsWanted } from "../app/queries";
import { useNow } from "../app/useNow";
import { ago, counted, duration, exact, middle, short, size } from "../app/words";
import { KeptFilters } from "../app/KeptFilters";
import { VerdictMark } from "../marks/StatusMark";
import classes from "./past.module.css";

const verdicts = ["", "clear", "held", "undecided", "exempt", "none"];
const events = ["", "push", "pull-request", "tag", "schedule", "manual", "upload"];
const spans = [7, 30, 90, 365];

/** The whole past of a project: every run of every branch, or what failed in them. */
export function PastPage() {
  const { project = "" } = useParams();
  const [query, setQuery] = useSearchParams();
  const set = (changes: Record<string, string>) =>
    setQuery(
      (now) => {
        for (const [key, value] of Object.entries(changes)) {
          if (value) now.set(key, value);
          else now.delete(key);
        }
        return now;
      },
      { replace: true },
    );
  const look = looks.find((l) => l.look === query.get("look")) ?? looks[0];
  return (
    <div className={classes.page}>
      <h1>The past of {project}</h1>
      <div className={classes.looks} role="group" aria-label="What to look for">
        {looks.map((l) => (
          <button key={l.page} type="button" className="plain" aria-pressed={l === look} onClick={() => set({ look: l.look, before: "" })}>
            {l.title}
          </button>
        ))}
      </div>
      <KeptFilters project={project} page={look.page} query={looked(query)} onChoose={(chosen) => setQuery(new URLSearchParams(`${look.look && `look=${look.look}&`}${chosen}`))} />
      <look.Shown key={look.page} project={project} query={query} set={set} />
    </div>
  );
}

const looks = [
  { look: "", page: "runs", title: "Runs", Shown: Runs },
  { look: "failures", page: "failures", title: "What failed in them", Shown: Failures },
  { look: "logs", page: "logs", title: "What they printed", Shown: Logs },
  { look: "artifacts", page: "artifacts", title: "What they made", Shown: Artifacts },
] as const;

/** What a filter says, without which page it is for and where one stands in it. */
function looked(query: URLSearchParams): string {
  const kept = new URLSearchParams(query);
  for (const key of ["look", "before"]) kept.delete(key);
  return kept.toString();
}

interface Props {
  project: string;
  query: URLSearchParams;
  set: (changes: Record<string, string>) => void;
}

export const wantedOf = (query: URLSearchParams): RunsWanted =>
  Object.fromEntries(["text", "verdict", "event", "branch"].flatMap((key) => (query.get(key) ? [[key, query.get(key)]] : [])));

function Runs({ project, query, set }: Props) {
  const wanted = wantedOf(query);
  const [text] = useDebouncedValue(wanted.text, 200);
  const before = Number(query.get("before")) || undefined;
  const found = useQuery(pastQuery(project, { ...wanted, text }, before));
  const branches = useQuery(stripQuery(project, undefined)).data?.branches.filter((b) => !/^(tag|pull request) /.test(b)) ?? [];
  const now = useNow();
  const csv = `/api/v1/projects/${encodeURIComponent(project)}/runs.csv?${new URLSearchParams(wanted).toString()}`;
  return (
    <>
      <div className={classes.filters}>
        <TextInput label="Title, author or commit" value={wanted.text ?? ""} onChange={(e) => set({ text: e.currentTarget.value, before: "" })} />
        <NativeSelect label="Verdict" data={verdicts.map((v) => ({ value: v, label: v || "any" }))} value={wanted.verdict ?? ""} onChange={(e) => set({ verdict: e.currentTarget.value, before: "" })} />
        <NativeSelect label="Event" data={events.map((v) => ({ value: v, label: v || "any" }))} value={wanted.event ?? ""} onChange={(e) => set({ event: e.currentTarget.value, before: "" })} />
        <NativeSelect label="Branch" data={[{ value: "", label: "any" }, ...branches]} value={wanted.branch ?? ""} onChange={(e) => set({ branch: e.currentTarget.value, before: "" })} />
      </div>
      <Awaited of={found} what="The runs" rows={9}>
        {(data) => (
          <>
            <p className="soft" role="status">
              {data.fitting === 0 ? "No run fits." : `${counted(data.fitting, "run")}, newest first`}
              {data.fitting > 0 && (
                <>
                  ; as <a href={csv}>CSV</a>
                </>
              )}
              {before !== undefined && (
                <>
                  ; those before #{before}{" "}
                  <button type="button" className="plain" onClick={() => set({ before: "" })}>
                    Back to the newest
                  </button>
                </>
              )}
            </p>
            {data.runs.length > 0 && (
              <div className={classes.scroll} tabIndex={0} role="region" aria-label="Runs">
                <table>
                  <thead>
                    <tr>
                      {["Run", "Commit", "Where", "When", "Took", "What was said"].map((t) => (
                        <th key={t} scope="col">
                          {t}
                        </th>
                      ))}
                    </tr>
                  </thead>
                  <tbody>
                    {data.runs.map((run) => (
                      <Line key={run.number} project={project} run={run} now={now} />
                    ))}
                  </tbody>
                </table>
              </div>
            )}
            {data.more && (
              <button type="button" className="plain" onClick={() => set({ before: String(data.runs.at(-1)?.number ?? "") })}>
                Older runs
              </button>
            )}
          </>
        )}
      </Awaited>
    </>
  );
}

function Line({ project, run, now }: { project: string; run: RunLine; now: number }) {
  const took = run.took ?? undefined;
  return (
    <tr>
      <td>
        <VerdictMark verdict={run.verdict} /> <Link to={`/p/${project}/runs/${run.number}`}>#{run.number}</Link>
      </td>
      <td title={run.title}>
        {middle(run.title, 56)} <span className="soft">{run.author}</span> <span className="mono soft">{short(run.commit)}</span>
      </td>
      <td>{run.context || (run.event === "manual" ? "by hand" : run.event)}</td>
      <td title={exact(run.at)}>{ago(run.at, now)}</td>
      <td>{took === undefined ? "" : duration(took)}</td>
      <td className={classes.said} title={run.sentence}>
        {run.sentence}
      </td>
    </tr>
  );
}

function Failures({ project, query, set }: Props) {
  const typed = query.get("text") ?? "";
  const [text] = useDebouncedValue(typed, 300);
  const days = Number(query.get("days")) || 30;
  const found = useQuery(failuresQuery(project, text, days));
  const now = useNow();
  return (
    <>
      <div className={classes.filters}>
        <TextInput label="A message, or a test's name" placeholder="three letters or more" value={typed} onChange={(e) => set({ text: e.currentTarget.value })} />
        <NativeSelect label="Of the last" data={spans.map((d) => ({ value: String(d), label: counted(d, "day") }))} value={String(days)} onChange={(e) => set({ days: e.currentTarget.value })} />
      </div>
      {text.trim().length < 3 ? (
        <p className="soft">What failed with these words in its message or its test&apos;s name, over all runs and branches, by cause.</p>
      ) : (
        <Awaited of={found} what="The search" rows={6}>
          {(data) => (
            <>
              <p role="status">{data.said}</p>
              <ul className={classes.causes}>
                {data.causes.map((cause) => (
                  <Cause key={cause.signature} project={project} cause={cause} now={now} />
                ))}
              </ul>
            </>
          )}
        </Awaited>
      )}
    </>
  );
}

/** Which logs have a text: the newest at once, older ones when they are asked for. */
function Logs({ project, query, set }: Props) {
  const typed = query.get("text") ?? "";
  const [text] = useDebouncedValue(typed, 300);
  const days = Number(query.get("days")) || 30;
  const found = useInfiniteQuery(logsQuery(project, text, days));
  const now = useNow();
  const last = found.data?.pages.at(-1);
  return (
    <>
      <div className={classes.filters}>
        <TextInput label="What stands in a log" placeholder="three letters or more" value={typed} onChange={(e) => set({ text: e.currentTarget.value })} />
        <NativeSelect label="Of the last" data={spans.map((d) => ({ value: String(d), label: counted(d, "day") }))} value={String(days)} onChange={(e) => set({ days: e.currentTarget.value })} />
      </div>
      {text.trim().length < 3 ? (
        <p className="soft">In which logs these words stand, capitals or not, over all runs and branches, the newest first.</p>
      ) : (
        <Awaited of={{ ...found, data: found.data?.pages }} what="The search" rows={6}>
          {(pages) => (
            <>
              <ul className={classes.causes}>
                {pages.flatMap((page) => page.found).map((log) => (
                  <li key={log.attempt_id}>
                    <Link to={`/p/${project}/runs/${log.run}?section=evidence&cell=${encodeURIComponent(`${log.job}/${log.key}`)}&attempt=${log.attempt_id}&line=${log.line}`}>
                      <b>#{log.run}</b> {log.job} {log.key}, line {log.line.toLocaleString("en")}
                    </Link>
                    <div className={`mono ${classes.message ?? ""}`}>{log.text}</div>
                    <div className="soft">
                      {log.state}, <span title={exact(log.at)}>{ago(log.at, now)}</span>
                      {log.lines > 1 && `; ${counted(log.lines - 1, "more line")}`}
                      {log.attempt > 1 && `; attempt ${log.attempt}`}
                    </div>
                  </li>
                ))}
              </ul>
              <p role="status">{last?.said}</p>
              {found.hasNextPage && (
                <button type="button" className="plain" disabled={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
                  {found.isFetchingNextPage ? "Searching …" : "Search the older ones"}
                </button>
              )}
            </>
          )}
        </Awaited>
      )}
    </>
  );
}

function Artifacts({ project, query, set }: Props) {
  const typed = query.get("text") ?? "";
  const [text] = useDebouncedValue(typed, 300);
  const found = useInfiniteQuery(artifactsQuery(project, text.trim()));
  const now = useNow();
  return (
    <>
      <div className={classes.filters}>
        <TextInput label="Its path, or the beginning of its digest" placeholder="lockstep-0.3" value={typed} onChange={(e) => set({ text: e.currentTarget.value })} />
      </div>
      <Awaited of={{ ...found, data: found.data?.pages }} what="The search" rows={6}>
        {(pages) => (
          <>
            {pages[0]?.artifacts.length === 0 && <p className="soft">{text ? `No run made a file ${text}.` : "No run made an artifact: a job keeps files with artifacts in the plan."}</p>}
            <ul className={classes.causes}>
              {pages.flatMap((page) => page.artifacts).map((a) => (
                <li key={`${a.run}/${a.job}/${a.key}/${a.path}`}>
                  {a.report === null ? <b>{a.path}</b> : <a href={`/api/v1/reports/${a.report}/raw`}>{a.path}</a>} {size(a.size)}{" "}
                  <span className="mono soft" title={`sha256 ${a.digest}`}>
                    {a.digest.slice(0, 16)}…
                  </span>
                  <div className="soft">
                    <VerdictMark verdict={a.verdict} size={12} /> of <Link to={`/p/${project}/runs/${a.run}`}>#{a.run}</Link> {a.of}, {[a.job, a.key].filter(Boolean).join(" ")}, <span title={exact(a.at)}>{ago(a.at, now)}</span>
                    {a.report === null ? "; kept no more" : a.until && `; kept until ${exact(a.until)}`}
                    {a.verdict !== "clear" && "; evidence, not a release"}
                  </div>
                </li>
              ))}
            </ul>
            {found.hasNextPage && (
              <button type="button" className="plain" disabled={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
                Show older ones
              </button>
            )}
          </>
        )}
      </Awaited>
    </>
  );
}

function Cause({ project, cause, now }: { project: string; cause: FoundCause; now: number }) {
  const more = cause.test_count - cause.tests.length;
  return (
    <li>
      <Link to={`/p/${project}/runs/${cause.newest}?finding=${encodeURIComponent(cause.signature)}`}>
        <b>{middle(cause.tests[0] ?? "", 90)}</b>
        {cause.test_count > 1 && ` and ${counted(cause.test_count - 1, "other test")}`}
      </Link>
      <div className={`mono ${classes.message ?? ""}`}>{cause.message || "no message"}</div>
      <div className="soft">
        {counted(cause.results, "result")} in {counted(cause.run_count, "run")}
        {cause.run_count > 1 ? `, #${cause.first} to #${cause.newest}` : `, #${cause.newest}`}, the last <span title={exact(cause.newest_at)}>{ago(cause.newest_at, now)}</span>; in {cause.cells.join(", ")}
        {more > 0 && cause.tests.length > 1 && `; ${counted(more, "test")} more`}.
      </div>
    </li>
  );
}
