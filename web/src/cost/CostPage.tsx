import "@mantine/core/styles/NumberInput.css";
import { Button, NumberInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { api, taken, type Cost, type PartCost } from "../api/client";
import { Awaited } from "../app/Awaited";
import { costQuery, keys } from "../app/queries";
import { counted } from "../app/words";
import classes from "./cost.module.css";

const minutes = (value: number) => `${value.toLocaleString("en", { maximumFractionDigits: value < 10 ? 1 : 0 })} min`;

const EVENTS = ["push", "pull-request", "tag", "schedule", "manual", "upload"];

/** What a project's runs cost, beside its budget. */
export function CostPage() {
  const { project = "" } = useParams();
  const found = useQuery(costQuery(project));
  return (
    <div className={classes.page}>
      <Awaited of={found} what="What it costs" rows={7}>
        {(cost) => <Told project={project} cost={cost} />}
      </Awaited>
    </div>
  );
}

export function Told({ project, cost }: { project: string; cost: Cost }) {
  const most = Math.max(1, ...cost.days.map((d) => d.minutes));
  const priced = cost.classes.some((c) => c.cost > 0);
  return (
    <>
      <h1>{cost.said}</h1>
      <p className="soft">
        Minutes of runners&apos; slots, by the day on which an attempt ended (UTC){priced && `; ${cost.cost.toLocaleString("en", { maximumFractionDigits: 2 })} by the runners' prices`}.
        {cost.saved >= 0.1 && ` ${minutes(cost.saved)} were not taken, because the same content had an answer already.`} As{" "}
        <a href={`/api/v1/projects/${encodeURIComponent(project)}/cost.csv`}>CSV</a>.
      </p>
      <ol className={classes.days} aria-label="Minutes by day, eight weeks">
        {cost.days.map((d) => (
          <li key={d.day} title={`${d.day}: ${minutes(d.minutes)}`}>
            <i style={{ height: `${Math.max(d.minutes ? 2 : 0, (d.minutes / most) * 100)}%` }} />
            <span className={classes.read}>{`${d.day}: ${minutes(d.minutes)}`}</span>
          </li>
        ))}
      </ol>
      <p className={classes.scale}>
        <span>{cost.days[0]?.day}</span>
        <span>the highest day: {minutes(most === 1 ? Math.max(0, ...cost.days.map((d) => d.minutes)) : most)}</span>
        <span>today</span>
      </p>
      <div className={classes.tables}>
        <Parts title="This month, by event" rows={cost.events} priced={priced} />
        <Parts title="This month, by class of machine" rows={cost.classes} priced={priced} />
      </div>
      <Budget project={project} cost={cost} />
    </>
  );
}

function Parts({ title, rows, priced }: { title: string; rows: PartCost[]; priced: boolean }) {
  return (
    <section aria-label={title}>
      <h2>{title}</h2>
      {rows.length === 0 && <p className="soft">Nothing has run.</p>}
      <table>
        <tbody>
          {rows.map((row) => (
            <tr key={row.name}>
              <th scope="row">{row.name}</th>
              <td>{minutes(row.minutes)}</td>
              {priced && <td>{row.cost.toLocaleString("en", { minimumFractionDigits: 2, maximumFractionDigits: 2 })}</td>}
              <td className="soft">{counted(row.attempts, "attempt")}</td>
              <td className={row.nearly_spent ? classes.said : `${classes.said} soft`}>{row.nearly_spent ? <b>{row.said}</b> : row.said}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Budget({ project, cost }: { project: string; cost: Cost }) {
  const client = useQueryClient();
  const [wish, setWish] = useState<number>();
  const [of, setOf] = useState("");
  const kept = of === "" ? cost.budget : (cost.events.find((e) => e.name === of)?.budget ?? null);
  const keep = useMutation({
    mutationFn: (budget: number) =>
      taken(api.PATCH("/api/v1/projects/{project}", { params: { path: { project } }, body: of === "" ? { budget } : { event_budgets: { [of]: budget } } })),
    onSuccess: async () => {
      setWish(undefined);
      await client.invalidateQueries({ queryKey: keys.cost(project) });
      await client.invalidateQueries({ queryKey: keys.desk() });
    },
  });
  return (
    <form
      className={classes.budget}
      onSubmit={(e) => {
        e.preventDefault();
        if (wish !== undefined) keep.mutate(wish);
      }}
    >
      <NumberInput size="xs" label="Budget, minutes a month" min={0} max={100_000_000} placeholder={kept === null ? "none" : String(kept)} value={wish ?? ""} onChange={(v) => setWish(typeof v === "number" ? v : undefined)} />
      <label>
        for{" "}
        <select
          value={of}
          onChange={(e) => {
            setOf(e.currentTarget.value);
            setWish(undefined);
          }}
        >
          <option value="">all events</option>
          {EVENTS.map((event) => (
            <option key={event} value={event}>
              {event.replace("-", " ")}
            </option>
          ))}
        </select>
      </label>
      <Button size="xs" type="submit" variant="default" disabled={wish === undefined} loading={keep.isPending}>
        Keep it
      </Button>
      <span className="soft">It stops nothing: the Desk says when it is nearly spent, or will be. 0 takes it away.</span>
      {keep.error && <span role="alert">{keep.error.message}</span>}
    </form>
  );
}
