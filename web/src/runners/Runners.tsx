import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Queue, type Queued, type Runner } from "../api/client";
import { written } from "../app/address";
import { keys, queueQuery, runnersQuery } from "../app/queries";
import { Loading, Trouble } from "../app/Awaited";
import { useNow } from "../app/useNow";
import { ago, counted, duration, exact } from "../app/words";
import { Passes } from "./Passes";
import classes from "./runners.module.css";

const HOUR = 3_600_000;

/** Every runner with the last hour of its slots, and the queue that explains itself. */
export function Runners() {
  const asked = useQuery(runnersQuery);
  const waiting = useQuery(queueQuery);
  const runners = asked.data;
  const queue = waiting.data;
  const now = useNow();
  const error = asked.error ?? waiting.error;
  if (!runners || !queue) return error ? <Trouble what="The runners" error={error} onAgain={() => void asked.refetch().then(() => waiting.refetch())} /> : <Loading what="The runners" rows={6} />;
  const present = runners.filter((r) => r.in_touch);
  return (
    <div className={classes.page}>
      <h1>{headline(present, queue)}</h1>
      {runners.length === 0 && (
        <p>
          No runner has ever been in touch. Give one a token below, and start it on any machine with the command that is shown.
        </p>
      )}
      {[...runners].sort((a, b) => Number(b.in_touch) - Number(a.in_touch)).map((r) => (
        <OneRunner key={r.name} runner={r} now={now} />
      ))}
      <QueueTable queue={queue} />
      <Passes />
    </div>
  );
}

function headline(present: Runner[], queue: Queue): string {
  const slots = present.reduce((n, r) => n + (r.drained ? 0 : r.slots), 0);
  const said = [`${counted(present.length, "runner")} in touch with ${counted(slots, "slot")}`];
  const { running, waiting, done_in } = queue.load;
  if (running + waiting === 0) return `${said[0] ?? ""}; nothing runs and nothing waits.`;
  said.push(`${running} running, ${waiting} waiting`);
  if (done_in !== null) said.push(`all done in about ${duration(done_in)}`);
  return `${said.join("; ")}.`;
}

function OneRunner({ runner, now }: { runner: Runner; now: number }) {
  const client = useQueryClient();
  const act = useMutation({
    mutationFn: async (what: "drain" | "resume" | "forget") => {
      const params = { path: { name: runner.name } };
      if (what === "drain") await api.POST("/api/v1/runners/{name}/drain", { params, body: { reason: "" } });
      else if (what === "resume") await api.POST("/api/v1/runners/{name}/resume", { params });
      else await api.DELETE("/api/v1/runners/{name}", { params });
    },
    onSettled: () => client.invalidateQueries({ queryKey: keys.runners() }),
  });
  const families = new Map<string, string[]>();
  for (const t of runner.runtimes) families.set(t.family, [...(families.get(t.family) ?? []), t.version]);
  return (
    <section className={classes.runner} aria-label={`Runner ${runner.name}`} data-gone={!runner.in_touch}>
      <div>
        <h2>{runner.name}</h2>
        <p>
          {runner.in_touch ? `${runner.busy} of ${counted(runner.slots, "slot")} busy` : <span title={exact(runner.seen_at)}>last heard of {ago(runner.seen_at, now)}</span>}
          {runner.drained && <span className={classes.drained}> Drained: {runner.drained}.</span>}
        </p>
        <p className="soft">
          {[runner.machine.class, runner.machine.system, runner.machine.processors && `${runner.machine.processors} processors`, runner.machine.memory].filter(Boolean).join(", ")}
          {runner.labels.length > 0 && `; labels ${runner.labels.join(", ")}`}; {runner.isolation}; version {runner.version}
          {runner.price > 0 && `; ${runner.price} a minute`}
        </p>
        {runner.projects && <p>Only for {runner.projects.join(", ") || "projects that are gone"}.</p>}
        <p className={classes.runtimes}>
          {[...families].map(([family, versions]) => (
            <span key={family}>
              <b>{family}</b> {versions.join(", ")}
            </span>
          ))}
        </p>
        <p className={classes.actions}>
          {runner.in_touch && (
            <button type="button" className="plain" disabled={act.isPending} onClick={() => act.mutate(runner.drained ? "resume" : "drain")}>
              {runner.drained ? "Resume" : "Drain"}
            </button>
          )}
          {act.error && (
            <span role="alert" className={classes.drained}>
              {act.error.message}
            </span>
          )}
          {!runner.in_touch && (
            <button type="button" className="plain" disabled={act.isPending} onClick={() => act.mutate("forget")}>
              Take off the list
            </button>
          )}
        </p>
      </div>
      <Hour runner={runner} now={now} />
    </section>
  );
}

/** One line for each slot, the last hour from left to right. */
function Hour({ runner, now }: { runner: Runner; now: number }) {
  const first = Math.min(now, ...runner.hour.map((b) => Date.parse(b.started_at)));
  const span = now - first < 0.15 * HOUR ? HOUR / 6 : HOUR;
  const end = Math.max(now, ...runner.hour.map((b) => Date.parse(b.ended_at ?? b.started_at)));
  const begin = end - span;
  const lanes = Math.min(Math.max(runner.slots, 1 + Math.max(-1, ...runner.hour.map((b) => b.slot))), 16);
  const at = (time: number) => (100 * (Math.max(time, begin) - begin)) / span;
  return (
    <div className={classes.hour} role="group" aria-label={`The last hour of ${runner.name}: ${counted(runner.hour.length, "attempt")}`}>
      {Array.from({ length: lanes }, (_, slot) => (
        <div key={slot} className={classes.slot}>
          {runner.hour
            .filter((b) => b.slot === slot && (!b.ended_at || Date.parse(b.ended_at) > begin))
            .map((b) => {
              const left = at(Date.parse(b.started_at));
              return (
                <Link
                  key={b.attempt}
                  to={written({ project: b.project, run: b.run, section: "evidence", cells: [`${b.job}/${b.key}`] })}
                  tabIndex={-1}
                  data-state={b.state}
                  data-control={b.control}
                  title={`${b.project} #${b.run} ${b.job} ${b.key}: ${b.state}${b.control ? ", a control run" : ""}`}
                  style={{ left: `${left}%`, width: `${Math.max(0.12, at(b.ended_at ? Date.parse(b.ended_at) : end) - left)}%` }}
                />
              );
            })}
        </div>
      ))}
      <div className={classes.scale} aria-hidden>
        <span>{duration(span / 1000)} ago</span>
        <span>{duration(span / 2000)}</span>
        <span>now</span>
      </div>
    </div>
  );
}

function QueueTable({ queue }: { queue: Queue }) {
  if (queue.cells.length === 0) return <p className="soft">Nothing waits. What comes next starts at once.</p>;
  return (
    <>
      <h2>The queue, in the order of turns</h2>
      <table className={classes.queue}>
        <thead>
          <tr>
            <th scope="col">Cell</th>
            <th scope="col">Event</th>
            <th scope="col">Starts</th>
            <th scope="col">Takes</th>
            <th scope="col">Why it waits</th>
          </tr>
        </thead>
        <tbody>
          {queue.cells.slice(0, 200).map((c) => (
            <tr key={c.cell} data-stuck={c.stuck}>
              <td>
                <Link to={`/p/${c.project}/runs/${c.run}`}>
                  {c.project} #{c.run}
                </Link>{" "}
                {c.job} {c.key}
              </td>
              <td>{c.event}</td>
              <td>{starts(c)}</td>
              <td>{c.seconds === null ? <span className="soft">unknown</span> : duration(c.seconds)}</td>
              <td>{c.reason}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {queue.cells.length + queue.more > 200 && <p className="soft">{counted(queue.cells.length + queue.more - 200, "more cell")} wait behind them.</p>}
    </>
  );
}

function starts(cell: Queued): string {
  if (cell.stuck) return "cannot start";
  if (cell.starts_in === null) return "nobody can say";
  return cell.starts_in < 1 ? "now" : `in about ${duration(cell.starts_in)}`;
}
