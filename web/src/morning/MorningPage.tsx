import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, useParams } from "react-router";
import type { Morning, MorningCause, ScheduleTold, Turned } from "../api/client";
import { Awaited } from "../app/Awaited";
import { morningQuery } from "../app/queries";
import { counted, exact } from "../app/words";
import { VerdictMark } from "../marks/StatusMark";
import classes from "./morning.module.css";

/** What there is to know in the morning: may the latest build be used, and what happened since yesterday evening. */
export function MorningPage() {
  const { project = "" } = useParams();
  const found = useQuery(morningQuery(project));
  return (
    <div className={classes.page}>
      <Awaited of={found} what="The morning page" rows={7}>
        {(morning) => <Told morning={morning} />}
      </Awaited>
    </div>
  );
}

export function Told({ morning: m }: { morning: Morning }) {
  const at = (run: number) => `/p/${encodeURIComponent(m.project)}/runs/${run}`;
  const fresh = m.causes.filter((c) => c.new);
  const old = m.causes.filter((c) => !c.new);
  const held = m.turned.filter((t) => t.state === "held");
  const better = m.turned.filter((t) => t.state !== "held");
  const quiet = m.causes.length + m.turned.length + m.waiting.length + m.still_held === 0;
  return (
    <>
      <h1 data-usable={String(m.usable)}>
        <VerdictMark verdict={m.usable === null ? "undecided" : m.usable ? "clear" : "held"} size={17} /> May the latest build of {m.project} be used?
      </h1>
      <p className={classes.answer}>
        {m.said} {m.newest && <Link to={at(m.newest.run)}>Look at it</Link>}
      </p>
      <p className="soft">
        What follows happened since {exact(m.since)}. The same <a href={`/api/v1/projects/${encodeURIComponent(m.project)}/morning.txt`}>as text</a>; it can be <Link to={`/p/${encodeURIComponent(m.project)}/settings`}>sent by mail</Link> at a time of yours.
      </p>
      {quiet && <p>Nothing broke, nothing was mended, and nobody is waited for.</p>}
      <Part title={`New on ${m.branch}`} rows={fresh}>
        {(c) => <Cause key={c.finding} cause={c} to={at(m.newest?.run ?? c.run)} first={at(c.run)} />}
      </Part>
      <Part title="Still there" rows={old}>
        {(c) => <Cause key={c.finding} cause={c} to={at(m.newest?.run ?? c.run)} first={at(c.run)} />}
      </Part>
      {m.more_causes > 0 && <p className="soft">{counted(m.more_causes, "more cause")}, on the run itself.</p>}
      <Part title="Became held" rows={held}>
        {(t) => <OneTurned key={t.context} turned={t} to={at(t.run)} />}
      </Part>
      <Part title="Clear again" rows={better}>
        {(t) => <OneTurned key={t.context} turned={t} to={at(t.run)} />}
      </Part>
      {m.still_held > 0 && <p>{counted(m.still_held, "branch or pull request", "branches and pull requests")} held as before.</p>}
      <Part title="Schedules" rows={m.schedules}>
        {(s) => <Schedule key={s.name} schedule={s} to={at(s.run ?? 0)} />}
      </Part>
      <Part title="Waits for an approval" rows={m.waiting}>
        {(w) => (
          <li key={w}>
            <Link to={at(Number(/^#(\d+)/.exec(w)?.[1]))}>{w}</Link>
          </li>
        )}
      </Part>
    </>
  );
}

function Part<T>({ title, rows, children }: { title: string; rows: T[]; children: (row: T) => ReactNode }) {
  if (rows.length === 0) return null;
  return (
    <section aria-label={title}>
      <h2>{title}</h2>
      <ul>{rows.map(children)}</ul>
    </section>
  );
}

function Cause({ cause: c, to, first }: { cause: MorningCause; to: string; first: string }) {
  return (
    <li>
      <Link to={`${to}?finding=${encodeURIComponent(c.finding)}`}>
        <b>{c.title}</b>
      </Link>{" "}
      {c.where}
      {c.message && <div className={`mono ${classes.message ?? ""}`}>{c.message}</div>}
      <div className="soft">
        since <Link to={first}>#{c.run}</Link> by {c.author}
        {c.chance && ", perhaps by chance"}; {c.taken ? `${c.taken} sees to it` : "nobody has taken it"}
      </div>
    </li>
  );
}

function OneTurned({ turned: t, to }: { turned: Turned; to: string }) {
  return (
    <li>
      <VerdictMark verdict={t.state === "held" ? "held" : "clear"} /> <b>{t.context}</b>{" "}
      <Link to={to}>
        #{t.run} {t.title}
      </Link>{" "}
      <span className="soft">by {t.author}</span>
      <div>{t.sentence}</div>
    </li>
  );
}

function Schedule({ schedule: s, to }: { schedule: ScheduleTold; to: string }) {
  return (
    <li>
      <b>{s.name}</b>{" "}
      {s.state === "ran" ? (
        <>
          ran as <Link to={to}>#{s.run}</Link>: {s.verdict || "no verdict"}
          {s.said && `, ${s.said}`}
        </>
      ) : s.state === "missed" ? (
        "was missed"
      ) : (
        `comes ${exact(s.next_at)}`
      )}{" "}
      <span className="soft">{s.words}</span>
    </li>
  );
}
