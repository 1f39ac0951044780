import { Button, PasswordInput, Textarea, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { useParams } from "react-router";
import { api, taken, type Secret } from "../api/client";
import { cachesQuery, kindsQuery, secretsQuery } from "../app/queries";
import { useNow } from "../app/useNow";
import { ago, counted, exact, size } from "../app/words";
import classes from "./settings.module.css";

/** What is kept for a project beside its plan: secrets and caches. */
export function ProjectSettings() {
  const { project = "" } = useParams();
  return (
    <div className={classes.page}>
      <h1>Kept for {project}, beside its plan.</h1>
      <Secrets project={project} />
      <Caches project={project} />
      <Kinds project={project} />
    </div>
  );
}

function Secrets({ project }: { project: string }) {
  const secrets = useQuery(secretsQuery(project)).data;
  const client = useQueryClient();
  const now = useNow();
  const remove = useMutation({
    mutationFn: (name: string) => api.DELETE("/api/v1/projects/{project}/secrets/{name}", { params: { path: { project, name } } }),
    onSettled: () => client.invalidateQueries({ queryKey: ["secrets", project] }),
  });
  if (!secrets) return null;
  return (
    <section aria-label="Secrets">
      <h2>Secrets</h2>
      <p className="soft">Only runners are given their values, and only for what is allowed here; nobody can read them back. Holds for this project.</p>
      {secrets.length > 0 && (
        <table className={classes.table}>
          <thead>
            <tr>
              <th scope="col">Name</th>
              <th scope="col">Given to</th>
              <th scope="col">Last used</th>
              <th scope="col">Set</th>
              <th scope="col" aria-label="Actions" />
            </tr>
          </thead>
          <tbody>
            {secrets.map((s) => (
              <tr key={s.name}>
                <td className="mono">{s.name}</td>
                <td>{givenTo(s)}</td>
                <td>{s.used_at ? <span title={exact(s.used_at)}>{ago(s.used_at, now)} by {s.used_by}</span> : "never"}</td>
                <td>
                  <span title={exact(s.set_at)}>{ago(s.set_at, now)}</span> by {s.set_by}
                  {!s.readable && <div className={classes.trouble}>It cannot be opened with the key in force: set it anew.</div>}
                </td>
                <td>
                  <Twice what={`Forget ${s.name}`} lost="jobs that ask for it cannot run until it is set again" onDo={() => remove.mutate(s.name)}>
                    Forget
                  </Twice>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <NewSecret project={project} />
    </section>
  );
}

function givenTo(s: Secret): string {
  const jobs = s.jobs.length ? `jobs ${s.jobs.join(", ")}` : "every job that asks for it";
  const events = s.events.length ? `on ${s.events.join(", ")}` : "on all events but pull requests";
  return `${jobs}, ${events}${s.branches.length ? `, branches ${s.branches.join(", ")}` : ""}`;
}

/** A button that asks once more, and says what will be lost. */
function Twice({ what, lost, onDo, children }: { what: string; lost: string; onDo: () => void; children: ReactNode }) {
  const [asked, setAsked] = useState(false);
  if (!asked) {
    return (
      <button type="button" className={`plain ${classes.action ?? ""}`} aria-label={what} onClick={() => setAsked(true)}>
        {children}
      </button>
    );
  }
  return (
    <span role="alert">
      {what}? Then {lost}.{" "}
      <button type="button" className={`plain ${classes.trouble ?? ""}`} onClick={onDo}>
        Yes
      </button>{" "}
      <button type="button" className={`plain ${classes.action ?? ""}`} onClick={() => setAsked(false)}>
        No
      </button>
    </span>
  );
}

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);

function NewSecret({ project }: { project: string }) {
  const client = useQueryClient();
  const empty = { name: "", value: "", jobs: "", events: "", branches: "" };
  const [wish, setWish] = useState(empty);
  const set = useMutation({
    mutationFn: async () => {
      const answer = await api.PUT("/api/v1/projects/{project}/secrets/{name}", {
        params: { path: { project, name: wish.name } },
        body: { value: wish.value, jobs: words(wish.jobs), events: words(wish.events), branches: words(wish.branches) },
      });
      if (!answer.response.ok) await taken(Promise.resolve({ response: answer.response, error: answer.error }));
    },
    onSuccess: () => {
      setWish(empty);
      return client.invalidateQueries({ queryKey: ["secrets", project] });
    },
  });
  const field = (key: keyof typeof empty, label: string, placeholder: string) => (
    <TextInput size="xs" label={label} placeholder={placeholder} value={wish[key]} onChange={(e) => setWish({ ...wish, [key]: e.currentTarget.value })} />
  );
  return (
    <form
      className={classes.form}
      onSubmit={(e) => {
        e.preventDefault();
        set.mutate();
      }}
    >
      {field("name", "Name", "TIDE_API_KEY")}
      <PasswordInput size="xs" label="Value" value={wish.value} autoComplete="off" onChange={(e) => setWish({ ...wish, value: e.currentTarget.value })} />
      {field("jobs", "Only these jobs", "every job")}
      {field("events", "Only these events", "all but pull-request")}
      {field("branches", "Only these branches", "every branch")}
      <Button size="xs" type="submit" disabled={!wish.name || !wish.value} loading={set.isPending}>
        Keep it
      </Button>
      {set.error && (
        <p role="alert" className={classes.trouble}>
          {set.error.message}
        </p>
      )}
    </form>
  );
}

function Caches({ project }: { project: string }) {
  const caches = useQuery(cachesQuery(project)).data;
  const client = useQueryClient();
  const now = useNow();
  const forget = useMutation({
    mutationFn: (entry: number | undefined) => api.DELETE("/api/v1/projects/{project}/caches", { params: { path: { project }, query: { entry } } }),
    onSettled: () => client.invalidateQueries({ queryKey: ["caches", project] }),
  });
  if (!caches) return null;
  return (
    <section aria-label="Caches">
      <h2>Caches</h2>
      {caches.length === 0 ? (
        <p className="soft">Nothing is kept. A job that names a cache in its plan saves it when an attempt passes.</p>
      ) : (
        <p className="soft">
          {counted(caches.length, "archive")}, {size(caches.reduce((n, c) => n + c.size, 0))}; those least used go first when there are too many.{" "}
          <Twice what="Forget all caches" lost="the next attempts build them anew" onDo={() => forget.mutate(undefined)}>
            Forget all
          </Twice>
        </p>
      )}
      {caches.length > 0 && (
        <table className={classes.table}>
          <thead>
            <tr>
              <th scope="col">Cache</th>
              <th scope="col">For</th>
              <th scope="col">Given to runs of</th>
              <th scope="col">Size</th>
              <th scope="col">Used</th>
            </tr>
          </thead>
          <tbody>
            {caches.map((c) => (
              <tr key={c.id}>
                <td>{c.name}</td>
                <td>
                  {c.job}
                  {Object.entries(c.runtimes).map(([f, v]) => `, ${f} ${v}`)}
                </td>
                <td>{c.scope}</td>
                <td>{size(c.size)}</td>
                <td title={exact(c.used_at)}>
                  {c.uses === 0 ? "not yet" : `${counted(c.uses, "time")}, last ${ago(c.used_at, now)}`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

const EXAMPLE = `[[kind]]
name = "gauge adrift"
part = "companion"
pattern = 'lost gauge (?P<which>\\d+)'
say = "Gauge {which} has come loose: moor it, then run these cells again."
`;

function Kinds({ project }: { project: string }) {
  const kinds = useQuery(kindsQuery(project)).data;
  const client = useQueryClient();
  const now = useNow();
  const [draft, setDraft] = useState<string>();
  const keep = useMutation({
    mutationFn: (text: string) => taken(api.PUT("/api/v1/projects/{project}/kinds", { params: { path: { project } }, body: { text } })),
    onSuccess: () => {
      setDraft(undefined);
      return client.invalidateQueries({ queryKey: ["kinds", project] });
    },
  });
  if (!kinds) return null;
  const text = draft ?? kinds.text;
  return (
    <section aria-label="Kinds of failure">
      <h2>Kinds of failure</h2>
      <p className="soft">
        How a failure is recognised by its words, and what to do then. Rules of this project are tried before the {kinds.usual.length} usual ones.
        {kinds.at && ` Last changed ${ago(kinds.at, now)} by ${kinds.by}.`}
      </p>
      <Textarea
        aria-label="Rules of this project"
        classNames={{ input: "mono" }}
        autosize
        minRows={4}
        maxRows={18}
        spellCheck={false}
        placeholder={EXAMPLE}
        value={text}
        onChange={(e) => setDraft(e.currentTarget.value)}
      />
      <p className={classes.tools}>
        <Button size="xs" disabled={draft === undefined || draft === kinds.text} loading={keep.isPending} onClick={() => keep.mutate(text)}>
          Keep these rules
        </Button>
        {text === "" && (
          <button type="button" className={`plain ${classes.action ?? ""}`} onClick={() => setDraft(EXAMPLE)}>
            Begin with an example
          </button>
        )}
        {keep.error && (
          <span role="alert" className={classes.trouble}>
            {keep.error.message}
          </span>
        )}
      </p>
      <details>
        <summary>The usual kinds</summary>
        <table className={classes.table}>
          <tbody>
            {kinds.usual.map((k) => (
              <tr key={k.name}>
                <th scope="row">{k.name}</th>
                <td>{k.part}</td>
                <td>{k.say}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </section>
  );
}
