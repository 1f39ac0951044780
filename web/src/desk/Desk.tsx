import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { Loading, Trouble } from "../app/Awaited";
import { deskQuery } from "../app/queries";
import { useNow } from "../app/useNow";
import { ago, counted, duration, exact } from "../app/words";
import type { DeskProject, StuckCell } from "../api/client";
import { StatusMark, VerdictMark } from "../marks/StatusMark";
import { lazy } from "react";
import { MiniStrip, Spark } from "./MiniStrip";
import classes from "./desk.module.css";

const FirstVisit = lazy(() => import("../plan/FirstVisit").then((m) => ({ default: m.FirstVisit })));

/** What needs a decision now, what runs, and every project in a row. */
export function Desk() {
  const asked = useQuery(deskQuery);
  const desk = asked.data;
  const now = useNow();
  if (!desk) return asked.error ? <Trouble what="The desk" error={asked.error} onAgain={() => void asked.refetch()} /> : <Loading what="The desk" rows={8} />;
  if (desk.projects.length === 0) return <FirstVisit empty />;
  const held = desk.projects.filter((p) => p.held_since && p.project.newest?.word !== "clear");
  const unread = desk.projects.filter((p) => p.project.trouble);
  const needs = held.length + desk.stuck.length + unread.length + desk.approvals.length + desk.strangers.length + desk.budgets.length + desk.gates.length + desk.untidy.length;
  return (
    <div className={classes.desk}>
      <h1>{headline(held, desk.stuck, desk.approvals.length)}</h1>
      <div className={classes.top}>
        <section aria-label="Needs a decision">
          {needs === 0 && <p className="soft">Nothing needs a decision: no main line is held, and every waiting cell can be run.</p>}
          <ul className={classes.needs}>
            {held.map((p) => (
              <HeldRow key={p.project.name} row={p} now={now} />
            ))}
            {desk.stuck.slice(0, 20).map((cell) => (
              <StuckRow key={`${cell.project}/${cell.run}/${cell.job}/${cell.key}`} cell={cell} />
            ))}
            {desk.approvals.map((a) => (
              <li key={`${a.project}/${a.run}/${a.job}`}>
                <StatusMark mark="waiting" size={13} />
                <span>
                  <Link to={`/p/${a.project}/runs/${a.run}`}>
                    <b>{a.project}</b> #{a.run}
                  </Link>{" "}
                  {a.job} waits for an approval <span className="soft">until {exact(a.until)}</span>
                </span>
              </li>
            ))}
            {desk.strangers.map((s) => (
              <li key={`${s.project}/${s.number}`}>
                <StatusMark mark="waiting" size={13} />
                <span>
                  <Link to={`/p/${s.project}/pulls`}>
                    <b>{s.project}</b> pull request {s.number}
                  </Link>{" "}
                  {s.title} <span className="soft">by {s.author || "a stranger"}: a maintainer looks at it before it runs</span>
                </span>
              </li>
            ))}
            {desk.gates.map((g) => (
              <li key={g.project}>
                <VerdictMark verdict="held" size={13} />
                <span>
                  <Link to={`/p/${g.project}/settings`}>
                    <b>{g.project}</b>
                  </Link>{" "}
                  {g.said}
                </span>
              </li>
            ))}
            {desk.untidy.map((u) => (
              <li key={`${u.project}/${u.job}`}>
                <StatusMark mark="void" size={13} />
                <span>
                  <Link to={`/p/${u.project}/runs/${u.run}`}>
                    <b>{u.project}</b> housekeeping {u.job}
                  </Link>{" "}
                  did not end well: {u.reason || "see its log"}
                </span>
              </li>
            ))}
            {desk.budgets.map((b) => (
              <li key={b.project}>
                <StatusMark mark="waiting" size={13} />
                <span>
                  <Link to={`/p/${b.project}/cost`}>
                    <b>{b.project}</b>
                  </Link>{" "}
                  {b.said}
                </span>
              </li>
            ))}
            {unread.map((p) => (
              <li key={p.project.name}>
                <StatusMark mark="void" />
                <span>
                  <b>{p.project.name}</b> cannot be read: {p.project.trouble}
                </span>
              </li>
            ))}
          </ul>
        </section>
        <aside className={classes.now} aria-label="Now">
          <h2>Now</h2>
          <p>
            {desk.pulse.running + desk.pulse.waiting > 0 && `${counted(desk.pulse.running, "cell")} running, ${counted(desk.pulse.waiting, "cell")} waiting. `}
            {desk.pulse.controls > 0 && `${counted(desk.pulse.controls, "cell")} repeated, to tell what did it. `}
            {desk.pulse.running + desk.pulse.waiting + desk.pulse.controls === 0 && "Nothing runs and nothing waits."}
          </p>
        </aside>
      </div>
      <table className={classes.projects}>
        <thead>
          <tr>
            <th scope="col">Project</th>
            <th scope="col">Last runs of the main line</th>
            <th scope="col">Line coverage</th>
            <th scope="col">To a verdict</th>
          </tr>
        </thead>
        <tbody>
          {desk.projects.map((p) => (
            <tr key={p.project.name}>
              <td>
                <Link to={`/p/${p.project.name}`} className={classes.name}>
                  {p.project.name}
                </Link>
                {p.project.paused && <b className="soft"> paused</b>}
                <div className="soft">{p.project.description}</div>
              </td>
              <td>{p.runs.length ? <MiniStrip project={p.project.name} runs={p.runs} /> : <span className="soft">nothing has run yet</span>}</td>
              <td>
                <Spark runs={p.runs} />
              </td>
              <td>{p.seconds === null ? "" : duration(p.seconds)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p>
        <Link to="/add">Watch another repository</Link>
      </p>
    </div>
  );
}

function headline(held: DeskProject[], stuck: StuckCell[], approvals: number): string {
  const names = held.map((p) => p.project.name).join(", ");
  const lines = held.length ? `${names} ${held.length === 1 ? "is" : "are"} held` : "No main line is held";
  const more = [stuck.length ? `${counted(stuck.length, "cell")} cannot run` : "", approvals ? `${counted(approvals, "approval")} ${approvals === 1 ? "is" : "are"} waited for` : ""];
  return `${[lines, ...more].filter(Boolean).join("; ")}.`;
}

function HeldRow({ row, now }: { row: DeskProject; now: number }) {
  const { newest, name } = row.project;
  const since = row.held_since;
  if (!newest || !since) return null;
  return (
    <li>
      <VerdictMark verdict={newest.word} size={13} />
      <span>
        <Link to={`/p/${name}`}>
          <b>{name}</b> #{newest.number}
        </Link>{" "}
        {newest.sentence}
        <span className="soft">
          {" "}
          Held since{" "}
          <Link to={`/p/${name}/runs/${since.number}`} title={exact(since.at)}>
            #{since.number} {since.title}
          </Link>{" "}
          by {since.author}, {ago(since.at, now)}.
        </span>
        {row.taken.slice(0, 4).map((t) => (
          <span key={t.finding}>
            {" "}
            <b>{t.by}</b> has <Link to={`/p/${name}/runs/${t.run}?finding=${encodeURIComponent(t.finding)}`}>{t.title}</Link>.
          </span>
        ))}
        {row.taken.length === 0 && <span className="soft"> Nobody has taken it.</span>}
      </span>
    </li>
  );
}

function StuckRow({ cell }: { cell: StuckCell }) {
  return (
    <li>
      <StatusMark mark="waiting" size={13} />
      <span>
        <Link to={`/p/${cell.project}/runs/${cell.run}`}>
          <b>{cell.project}</b> #{cell.run}
        </Link>{" "}
        {cell.job} {cell.key} waits: {cell.reason}.
      </span>
    </li>
  );
}
