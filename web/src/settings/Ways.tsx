import "@mantine/core/styles/FloatingIndicator.css";
import "@mantine/core/styles/SegmentedControl.css";
import { Button, Checkbox, SegmentedControl, Select, TextInput, Textarea } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken, type Way } from "../api/client";
import { Awaited } from "../app/Awaited";
import { keys, templateValuesQuery, waysQuery } from "../app/queries";
import { exact } from "../app/words";
import classes from "./settings.module.css";

const USUAL = `{
  "text": "{sentence} {address}"
}`;

const WHAT = [
  { value: "news", label: "When a branch becomes held, held by more, clear again, or released, and when something needs a person" },
  { value: "always", label: "Each outcome, pending ones too" },
  { value: "morning", label: "The morning page, at a time" },
  { value: "report", label: "The report of the time since the last one, at a time" },
];
const timed = (what: string) => what === "morning" || what === "report";
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** Where outcomes are told beside the note on the commit: requests by template, and mail. */
export function Ways({ project }: { project: string }) {
  const found = useQuery(waysQuery(project));
  const [adding, setAdding] = useState(false);
  return (
    <section aria-label="Where outcomes are told">
      <h2>Where outcomes are told</h2>
      <p className="soft">Each verdict stands as a note on its commit. It can also be sent to another system by a request, or by mail to people.</p>
      <Awaited of={found} what="The ways" rows={2}>
        {(ways) => (
          <ul className={classes.ways}>
            {ways.map((way) => (
              <One key={way.name} project={project} way={way} />
            ))}
          </ul>
        )}
      </Awaited>
      {adding ? (
        <Add project={project} onDone={() => setAdding(false)} />
      ) : (
        <Button size="compact-xs" variant="default" onClick={() => setAdding(true)}>
          Tell it somewhere …
        </Button>
      )}
    </section>
  );
}

function One({ project, way }: { project: string; way: Way }) {
  const client = useQueryClient();
  const params = { path: { project, way: way.name } };
  const attempt = useMutation({ mutationFn: () => taken(api.POST("/api/v1/projects/{project}/ways/{way}/try", { params })) });
  const remove = useMutation({
    mutationFn: () => api.DELETE("/api/v1/projects/{project}/ways/{way}", { params }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.ways(project) }),
  });
  const error = attempt.error ?? remove.error;
  return (
    <li>
      <b>{way.name}</b>
      <span>
        {way.kind === "mail" ? "mail to" : "a request to"} {way.shown}, {way.morning ? `the ${way.page === "report" ? "report" : "morning page"}, every ${way.morning}` : way.always ? "each outcome, pending ones too" : way.moments.length ? `when it is ${way.moments.join(" or ")}` : "when a branch becomes held, held by more, clear again, or released, and when something needs a person"}
        {way.events.length > 0 && `, of ${way.events.map((e) => e.replace("-", " ")).join(", ")} runs`}
        {way.branches.length > 0 && `, of ${way.branches.join(", ")}`}
        {!way.on && "; switched off"}
      </span>
      <span className="soft" title={exact(way.at)}>
        by {way.by}
      </span>
      <button type="button" className="plain" disabled={attempt.isPending} onClick={() => attempt.mutate()}>
        Try it
      </button>
      {!way.planned && (
        <button type="button" className="plain" disabled={remove.isPending} onClick={() => remove.mutate()}>
          Remove
        </button>
      )}
      {attempt.data && (
        <span role="status" className={classes.answer} data-arrived={attempt.data.arrived}>
          {attempt.data.arrived ? "It arrived: " : "It did not arrive: "}
          {attempt.data.said}
        </span>
      )}
      {error && <span role="alert">{error.message}</span>}
    </li>
  );
}

function Add({ project, onDone }: { project: string; onDone: () => void }) {
  const client = useQueryClient();
  const values = useQuery(templateValuesQuery).data ?? [];
  const [wish, setWish] = useState({ name: "", kind: "request", branches: "", url: "", header: "", body: USUAL, to: "", authors: false, owners: false, pulls: false, what: "news", every: "weekday", at: "07:30" });
  const set = (change: Partial<typeof wish>) => setWish({ ...wish, ...change });
  const keep = useMutation({
    mutationFn: () => {
      const [name, ...rest] = wish.header.split(":");
      return api.PUT("/api/v1/projects/{project}/ways/{way}", {
        params: { path: { project, way: wish.name } },
        body: {
          kind: wish.kind, always: wish.what === "always", on: true, morning: timed(wish.what) ? `${wish.every} ${wish.at} ${zone}` : "", page: wish.what === "report" ? "report" : "morning", url: wish.url.trim(), method: wish.pulls ? "PUT" : "POST", events: wish.pulls ? ["pull-request"] : [], body: wish.kind === "request" ? wish.body : "", authors: wish.authors, owners: wish.owners,
          branches: wish.branches.split(/[\s,]+/).filter(Boolean),
          headers: name && rest.length ? { [name.trim()]: rest.join(":").trim() } : {},
          to: wish.kind === "mail" ? wish.to.split(/[\s,;]+/).filter(Boolean) : [],
        },
      }); // prettier-ignore
    },
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: keys.ways(project) });
      onDone();
    },
  });
  return (
    <form
      className={classes.way}
      onSubmit={(e) => {
        e.preventDefault();
        keep.mutate();
      }}
    >
      <div className={classes.fields}>
        <TextInput size="xs" label="Name" placeholder="team-room" value={wish.name} onChange={(e) => set({ name: e.currentTarget.value })} />
        <SegmentedControl size="xs" data={[{ value: "request", label: "a request" }, { value: "mail", label: "mail" }]} value={wish.kind} onChange={(kind) => set({ kind })} aria-label="How" />
        <TextInput size="xs" label="Only of branches" placeholder="all; for example main, season/*" value={wish.branches} onChange={(e) => set({ branches: e.currentTarget.value })} />
      </div>
      {wish.kind === "mail" ? (
        <div className={classes.fields}>
          <TextInput size="xs" label="To" placeholder="ada@tidewater.example" value={wish.to} onChange={(e) => set({ to: e.currentTarget.value })} />
          <Checkbox size="xs" label="and who wrote what may have done it" checked={wish.authors} onChange={(e) => set({ authors: e.currentTarget.checked })} />
          <Checkbox size="xs" label="and the owners that the plan names" checked={wish.owners} onChange={(e) => set({ owners: e.currentTarget.checked })} />
        </div>
      ) : (
        <>
          <TextInput size="xs" label="Address" placeholder="https://rooms.example/hooks/{secret:ROOM_KEY}" value={wish.url} onChange={(e) => set({ url: e.currentTarget.value })} />
          <TextInput size="xs" label="A header" placeholder="Authorization: Bearer {secret:ROOM_TOKEN}" value={wish.header} onChange={(e) => set({ header: e.currentTarget.value })} />
          <Checkbox size="xs" label="Keep a text on each pull request up to date: PUT, of pull requests only" checked={wish.pulls} onChange={(e) => set({ pulls: e.currentTarget.checked, ...(e.currentTarget.checked ? { what: "always" } : {}) })} />
          <Textarea size="xs" label="Body, JSON" autosize minRows={4} maxRows={14} classNames={{ input: "mono" }} value={wish.body} onChange={(e) => set({ body: e.currentTarget.value })} />
          <details>
            <summary>Values that can stand in braces</summary>
            <dl className={classes.values}>
              {values.map((v) => (
                <div key={v.name}>
                  <dt className="mono">{`{${v.name}}`}</dt>
                  <dd>{v.means}</dd>
                </div>
              ))}
              <div>
                <dt className="mono">{"{secret:NAME}"}</dt>
                <dd>a secret of this project; it is shown nowhere</dd>
              </div>
            </dl>
          </details>
        </>
      )}
      <div className={classes.fields}>
        <Select size="xs" label="What is told" data={WHAT} value={wish.what} onChange={(what) => set({ what: what ?? "news", ...(what === "report" ? { every: "monday" } : {}) })} allowDeselect={false} w={360} />
        {timed(wish.what) && (
          <>
            <Select size="xs" label="Every" data={["weekday", "day", "monday", "friday"]} value={wish.every} onChange={(every) => set({ every: every ?? "weekday" })} allowDeselect={false} />
            <TextInput size="xs" label={`At, ${zone}`} value={wish.at} onChange={(e) => set({ at: e.currentTarget.value })} />
          </>
        )}
      </div>
      {keep.error && <p role="alert">{keep.error.message}</p>}
      <div className={classes.fields}>
        <Button size="xs" type="submit" disabled={!wish.name} loading={keep.isPending}>
          Keep it
        </Button>
        <Button size="xs" variant="default" onClick={onDone}>
          Leave it
        </Button>
      </div>
    </form>
  );
}
