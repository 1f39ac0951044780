import "@mantine/core/styles/PasswordInput.css";
import { Button, PasswordInput, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Secret } from "../api/client";
import { keys, secretsQuery } from "../app/queries";
import { Loading, Trouble } from "../app/Awaited";
import { useNow } from "../app/useNow";
import { ago, exact } from "../app/words";
import { Twice } from "./Twice";
import classes from "./settings.module.css";

/** Values that only runners are given, and what they are given for. */
export function Secrets({ project }: { project: string }) {
  const asked = useQuery(secretsQuery(project));
  const secrets = asked.data;
  const client = useQueryClient();
  const now = useNow();
  const remove = useMutation({
    mutationFn: (name: string) => api.DELETE("/api/v1/projects/{project}/secrets/{name}", { params: { path: { project, name } } }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.secrets(project) }),
  });
  if (!secrets) return asked.error ? <Trouble what="The list of secrets" error={asked.error} onAgain={() => void asked.refetch()} /> : <Loading what="The list of secrets" />;
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
      {remove.error && (
        <p role="alert" className={classes.trouble}>
          {remove.error.message}
        </p>
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

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);

function NewSecret({ project }: { project: string }) {
  const client = useQueryClient();
  const empty = { name: "", value: "", jobs: "", events: "", branches: "" };
  const [wish, setWish] = useState(empty);
  const set = useMutation({
    mutationFn: () =>
      api.PUT("/api/v1/projects/{project}/secrets/{name}", {
        params: { path: { project, name: wish.name } },
        body: { value: wish.value, jobs: words(wish.jobs), events: words(wish.events), branches: words(wish.branches) },
      }),
    onSuccess: () => {
      setWish(empty);
      return client.invalidateQueries({ queryKey: keys.secrets(project) });
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
