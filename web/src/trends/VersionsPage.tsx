import { useQuery } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import type { Fewer, NewVersion, VersionLine, WhatIf } from "../api/client";
import { Awaited } from "../app/Awaited";
import { fewerQuery, twoValuesQuery, versionsQuery, whatIfQuery } from "../app/queries";
import { counted, duration, middle } from "../app/words";
import { keepDraft } from "../plan/useDraft";
import classes from "./trends.module.css";

const RUNS = 300;

export const states: Record<string, string> = { binding: "binding", advisory: "advisory", nights: "at night only", gone: "no longer in the plan" };
export const changes: Record<string, string> = { retire: "Retire", nights: "At night only", advisory: "Make it advisory", promote: "Let it bind", add: "Add it as advisory" };

/** What can be asked of a value as it stands in the plan. */
export function askable(state: string): string[] {
  if (state === "gone") return [];
  if (state === "advisory") return ["promote", "retire"];
  return state === "nights" ? ["retire"] : ["advisory", "nights", "retire"];
}

const advice: Record<string, string> = {
  keep: "Keep it: it found what no other did.",
  nights: "It found nothing alone: at night would do.",
  promote: "Steady: it could bind.",
};

/** Which values of the matrix earn their minutes: what each found, what would be without it, and the plan's edit. */
export function VersionsPage() {
  const { project = "" } = useParams();
  const found = useQuery(versionsQuery(project, RUNS));
  return (
    <div className={classes.page}>
      <Awaited of={found} what="The versions" rows={9}>
        {(data) => (
          <>
            <h1>{data.said}</h1>
            {data.new.map((n) => (
              <New key={`${n.job} ${n.dimension} ${n.value}`} project={project} found={n} />
            ))}
            {data.lines.length > 0 && (
              <>
                <p className="soft">
                  Their cells took {duration(data.minutes * 60)} of runners. “Alone” counts runs in which nothing but this value broke, so that without it the break would not have been seen there. A test breaks once until it is mended; tests that fail by chance are left out.
                </p>
                <Lines project={project} lines={data.lines} />
                <FewerCells project={project} />
              </>
            )}
          </>
        )}
      </Awaited>
    </div>
  );
}

/** What fewer cells would have found, job by job. */
function FewerCells({ project }: { project: string }) {
  const found = useQuery(fewerQuery(project)).data ?? [];
  return found.map((f) => <FewerOf key={f.job} fewer={f} named={found.length > 1} />);
}

export function FewerOf({ fewer, named }: { fewer: Fewer; named: boolean }) {
  const [all, setAll] = useState(false);
  const steps = all ? fewer.steps : fewer.steps.slice(0, STEPS);
  return (
    <section className={classes.versions} tabIndex={0} aria-label={`Fewer cells of ${fewer.job}`}>
      <h2>{named ? `With fewer cells of ${fewer.job}` : "With fewer cells"}</h2>
      <p>{fewer.said}</p>
      {fewer.steps.length > 0 && (
        <table>
          <thead>
            <tr>
              <th scope="col">These cells</th>
              <th scope="col">would have found</th>
              <th scope="col">and take, a run</th>
              <th scope="col">with all of them at night</th>
            </tr>
          </thead>
          <tbody>
            {steps.map((s, i) => (
              <tr key={s.key}>
                <td>
                  {i > 0 && <span className="soft">and </span>}
                  <span className="mono">{s.key}</span>
                </td>
                <td>
                  {s.found} of {fewer.breaks}
                </td>
                <td>{duration(s.seconds)}</td>
                <td>{nightly(s, fewer.breaks)}</td>
              </tr>
            ))}
            {fewer.ways.map((w, i) => (
              <tr key={i}>
                <td>
                  {w.name} <span className="soft">({counted(w.cells, "cell")})</span>
                </td>
                <td>
                  {w.found.toLocaleString("en", { maximumFractionDigits: 1 })} of {fewer.breaks}
                </td>
                <td>{duration(w.seconds)}</td>
                <td />
              </tr>
            ))}
            <tr>
              <td>
                all <span className="soft">({counted(fewer.cells, "cell")})</span>
              </td>
              <td>
                {fewer.breaks} of {fewer.breaks}
              </td>
              <td>{duration(fewer.seconds)}</td>
              <td />
            </tr>
          </tbody>
        </table>
      )}
      {fewer.orders.length > 0 && (
        <p>
          One after another, half of the breaks show after{" "}
          {fewer.orders.map((o, i) => (
            <Fragment key={o.name}>
              {i > 0 && (i === fewer.orders.length - 1 ? " and " : ", ")}
              {duration(o.seconds)} {o.name}
            </Fragment>
          ))}
          .
        </p>
      )}
      {fewer.steps.length > STEPS && !all && (
        <button type="button" className={`plain ${classes.as ?? ""}`} onClick={() => setAll(true)}>
          {counted(fewer.steps.length - STEPS, "further cell")}
        </button>
      )}
    </section>
  );
}

/** What a night with every cell adds to some of them by day. */
export function nightly(step: Fewer["steps"][number], breaks: number): string {
  const saved = `${(step.saved * 100).toFixed(0)} % of the time saved`;
  if (step.found === breaks) return saved;
  const late = step.late > 0 ? `${step.late} seen ${duration((step.hours ?? 0) * 3600)} later` : "";
  const over = step.over > 0 ? `${step.over} over by then` : "";
  return [late, over, saved].filter(Boolean).join(", ");
}

const STEPS = 8; // cells that stand there without being asked for

function New({ project, found }: { project: string; found: NewVersion }) {
  const [open, setOpen] = useState(false);
  return (
    <div className={classes.newVersion}>
      <b>
        {found.dimension} {found.value}
      </b>{" "}
      is offered by {found.runners.join(", ")}, and no cell of {found.job} tests it.{" "}
      <button type="button" className="plain" aria-expanded={open} onClick={() => setOpen(!open)}>
        {changes.add}
      </button>
      {open && <Asked project={project} asked={{ job: found.job, dimension: found.dimension, value: found.value, change: "add" }} />}
    </div>
  );
}

function Lines({ project, lines }: { project: string; lines: VersionLine[] }) {
  const [asked, setAsked] = useState<{ job: string; dimension: string; value: string; change: string }>();
  const groups = new Map<string, VersionLine[]>();
  for (const line of lines) {
    const name = `${line.record.job} · ${line.record.dimension}`;
    groups.set(name, [...(groups.get(name) ?? []), line]);
  }
  return (
    <section aria-label="Versions" className={classes.versions} tabIndex={0}>
      <table>
        <thead>
          <tr>
            {["Value", "Now", "Runs", "Broke in", "Alone", "Time", "What that suggests", "What if"].map((t) => (
              <th key={t} scope="col">
                {t}
              </th>
            ))}
          </tr>
        </thead>
        {[...groups].map(([name, values]) => (
          <tbody key={name}>
            <tr>
              <th scope="rowgroup" colSpan={8}>
                {name} <span className="soft">{counted(values[0]?.record.breaks ?? 0, "run")} with a break</span>
                <Two project={project} values={values} />
              </th>
            </tr>
            {values.map((line) => {
              const { record: v } = line;
              const mine = asked?.job === v.job && asked.dimension === v.dimension && asked.value === v.value;
              return (
                <Fragment key={v.value}>
                  <tr>
                    <td className="mono">{middle(v.value, 40)}</td>
                    <td>
                      {states[line.state]}
                      {!line.offered && <b> · no runner offers it</b>}
                    </td>
                    <td>{v.runs}</td>
                    <td>{v.failed}</td>
                    <td>{v.alone > 0 ? <b>{v.alone}</b> : 0}</td>
                    <td>
                      {duration(v.seconds)} <span className="soft">{(v.share * 100).toFixed(0)} %</span>
                    </td>
                    <td>{advice[v.advice] ?? ""}</td>
                    <td>
                      <span className={classes.asks}>
                      {askable(line.state).map((change) => (
                        <button
                          key={change}
                          type="button"
                          className="plain"
                          aria-expanded={mine && asked.change === change}
                          aria-label={`${changes[change] ?? change}: ${v.dimension} ${v.value}`}
                          onClick={() => setAsked(mine && asked.change === change ? undefined : { job: v.job, dimension: v.dimension, value: v.value, change })}
                        >
                          {changes[change]}
                        </button>
                      ))}
                      </span>
                    </td>
                  </tr>
                  {mine && (
                    <tr>
                      <td colSpan={8} className={classes.whatIf}>
                        <Asked project={project} asked={asked} />
                      </td>
                    </tr>
                  )}
                </Fragment>
              );
            })}
          </tbody>
        ))}
      </table>
    </section>
  );
}

/** Two values of a dimension beside each other. */
export function Two({ project, values }: { project: string; values: VersionLine[] }) {
  const [one, setOne] = useState("");
  const [other, setOther] = useState("");
  const { job = "", dimension = "" } = values[0]?.record ?? {};
  const ready = one !== "" && other !== "" && one !== other;
  const found = useQuery({ ...twoValuesQuery(project, { job, dimension, one, other }), enabled: ready });
  const choice = (label: string, value: string, set: (value: string) => void) => (
    <select aria-label={`${label}: ${dimension} of ${job}`} value={value} onChange={(event) => set(event.currentTarget.value)}>
      <option value="">…</option>
      {values.map((v) => (
        <option key={v.record.value}>{v.record.value}</option>
      ))}
    </select>
  );
  return (
    <span className={classes.two}>
      {choice("One", one, setOne)} beside {choice("the other", other, setOther)}
      {ready && <span role="status">{found.data?.said ?? found.error?.message ?? "…"}</span>}
    </span>
  );
}

function Asked({ project, asked }: { project: string; asked: { job: string; dimension: string; value: string; change: string } }) {
  return (
    <Awaited of={useQuery(whatIfQuery(project, asked))} what="What it would mean" rows={2}>
      {(told) => <Told project={project} told={told} change={asked.change} />}
    </Awaited>
  );
}

function Told({ project, told, change }: { project: string; told: WhatIf; change: string }) {
  const navigate = useNavigate();
  const { text } = told;
  return (
    <div data-testid="what-if">
      {told.said.map((line) => (
        <p key={line}>{line}</p>
      ))}
      {told.missed.length > 0 && (
        <p>
          {change === "promote" ? "They are " : "What it alone found: "}
          {told.missed.slice(0, 8).map((m, i) => (
            <Fragment key={m.number}>
              {i > 0 && ", "}
              <Link to={`/p/${project}/runs/${m.number}`} title={m.title}>
                #{m.number} {middle(m.title, 40)}
              </Link>
            </Fragment>
          ))}
          {told.missed.length > 8 && `, and ${counted(told.missed.length - 8, "more run")}`}.
        </p>
      )}
      {text === null ? (
        <p>The plan is not changed by itself: {told.cannot}.</p>
      ) : (
        <p>
          <button
            type="button"
            className="plain"
            onClick={() => {
              keepDraft(project, told.branch, { text, base: told.base, commit: told.commit });
              void navigate(`/p/${encodeURIComponent(project)}/plan?view=difference`);
            }}
          >
            Take it into the plan
          </button>{" "}
          <span className="soft">as a draft: what differs is shown, and nothing is saved yet.</span>
        </p>
      )}
    </div>
  );
}
