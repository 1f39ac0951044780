import "@mantine/core/styles/NumberInput.css";
import { Button, Checkbox, NumberInput, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, taken, type Project } from "../api/client";
import { Awaited } from "../app/Awaited";
import { freedQuery, keptQuery, keys, meQuery, projectsQuery } from "../app/queries";
import { counted, size } from "../app/words";
import classes from "./settings.module.css";

/** Name, description, rest and removal of a project. */
export function ThisProject({ project }: { project: string }) {
  const found = useQuery(projectsQuery);
  return (
    <Awaited of={{ ...found, data: found.data?.find((p) => p.name === project) }} what={`The project ${project}`}>
      {(p) => <Fields project={p} />}
    </Awaited>
  );
}

function Fields({ project }: { project: Project }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const admin = useQuery(meQuery).data?.role === "admin";
  const [name, setName] = useState(project.name);
  const [description, setDescription] = useState(project.description);
  const [tracker, setTracker] = useState(project.tracker);
  const [pulls, setPulls] = useState(project.pull_refs);
  const [strangers, setStrangers] = useState(project.pull_strangers);
  const [refresh, setRefresh] = useState(project.pull_refresh);
  const [minutes, setMinutes] = useState<number | "">(project.stranger_minutes ?? "");
  const change = useMutation({
    mutationFn: (body: { name?: string; description?: string; paused?: boolean; tracker?: string; pull_refs?: string; pull_strangers?: boolean; pull_refresh?: string; stranger_minutes?: number }) =>
      taken(api.PATCH("/api/v1/projects/{project}", { params: { path: { project: project.name } }, body })),
    onSuccess: async (now) => {
      await client.invalidateQueries();
      if (now.name !== project.name) void navigate(`/p/${now.name}/settings`);
    },
  });
  return (
    <section aria-label="This project">
      <h2>This project</h2>
      <form
        className={classes.fields}
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate({ ...(name === project.name ? {} : { name }), description, tracker, pull_refs: pulls, pull_strangers: strangers, pull_refresh: refresh.trim(), stranger_minutes: minutes === "" ? 0 : minutes });
        }}
      >
        <TextInput size="xs" label="Name" value={name} disabled={!admin} onChange={(e) => setName(e.currentTarget.value)} />
        <TextInput size="xs" label="What it is" value={description} onChange={(e) => setDescription(e.currentTarget.value)} />
        <TextInput size="xs" label="Where #123 in notes leads" placeholder="https://tracker.example/{id}" value={tracker} onChange={(e) => setTracker(e.currentTarget.value)} />
        <TextInput size="xs" label="Refs that are pull requests" placeholder="none; for example refs/changes/*/head" value={pulls} onChange={(e) => setPulls(e.currentTarget.value)} />
        {pulls && <Checkbox size="xs" label="They are of strangers: a maintainer looks at each head before it runs" checked={strangers} onChange={(e) => setStrangers(e.currentTarget.checked)} />}
        <TextInput size="xs" label="Pull requests whose target moved are tested anew" placeholder="when somebody asks; at once; day 02:00 Europe/Oslo" w={300} value={refresh} onChange={(e) => setRefresh(e.currentTarget.value)} />
        <NumberInput size="xs" label="Minutes of runners that a stranger's may take" min={1} placeholder="no bound" value={minutes} onChange={(v) => setMinutes(typeof v === "number" ? v : "")} />
        <Button size="xs" type="submit" loading={change.isPending}>
          Keep
        </Button>
      </form>
      <p>
        {project.paused ? "It is paused: pushes, pull requests and schedules start nothing. What moved is tested when it is resumed." : "Pushes, pull requests and schedules start runs."}{" "}
        <Button size="compact-xs" variant="default" loading={change.isPending} onClick={() => change.mutate({ paused: !project.paused })}>
          {project.paused ? "Resume" : "Pause"}
        </Button>
      </p>
      {change.error && <p role="alert">{change.error.message}</p>}
      <Keeping project={project} />
      {admin && <Removal project={project.name} />}
    </section>
  );
}

/** How long logs and files are kept, with what that frees said before it is set. */
function Keeping({ project }: { project: Project }) {
  const client = useQueryClient();
  const [days, setDays] = useState<number>();
  const freed = useQuery({ ...freedQuery(project.name, days ?? 0), enabled: days !== undefined && days > 0 });
  const keep = useMutation({
    mutationFn: (wish: number | null) => api.PUT("/api/v1/projects/{project}/keeping", { params: { path: { project: project.name } }, body: { days: wish } }),
    onSuccess: async () => {
      setDays(undefined);
      await client.invalidateQueries({ queryKey: keys.projects() });
    },
  });
  return (
    <div className={classes.fields}>
      <NumberInput size="xs" label="Days that logs and files are kept" min={1} max={3650} placeholder={project.keep_days === null ? "for ever" : String(project.keep_days)} value={days ?? ""} onChange={(v) => setDays(typeof v === "number" ? v : undefined)} />
      <Button size="xs" variant="default" disabled={!days} loading={keep.isPending} onClick={() => days && keep.mutate(days)}>
        Keep them so long
      </Button>
      {project.keep_days !== null && (
        <Button size="xs" variant="default" loading={keep.isPending} onClick={() => keep.mutate(null)}>
          For ever
        </Button>
      )}
      <span className="soft">
        {freed.data ? `That frees ${size(freed.data.log_bytes + freed.data.file_bytes)} of ${counted(freed.data.attempts, "attempt")}. ` : ""}
        The newest 20 runs of each branch stay whole; totals, results and verdicts stay for ever.
      </span>
      {keep.error && <span role="alert">{keep.error.message}</span>}
    </div>
  );
}

function Removal({ project }: { project: string }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const client = useQueryClient();
  const navigate = useNavigate();
  const kept = useQuery({ ...keptQuery(project), enabled: open });
  const remove = useMutation({
    mutationFn: () => api.DELETE("/api/v1/projects/{project}", { params: { path: { project }, query: { really: name } } }),
    onSuccess: async () => {
      void navigate("/");
      await client.invalidateQueries();
    },
  });
  if (!open)
    return (
      <p>
        <Button size="compact-xs" variant="default" onClick={() => setOpen(true)}>
          Remove this project …
        </Button>
      </p>
    );
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        remove.mutate();
      }}
    >
      <Awaited of={kept} what="What would go" rows={1}>
        {(k) => (
          <p>
            With it go {counted(k.runs, "run")} of {counted(k.attempts, "attempt")}, {size(k.log_bytes)} of logs, {size(k.file_bytes)} of reports and artifacts, its secrets, caches and tokens. The repository and the notes in it stay. It cannot be taken back.
          </p>
        )}
      </Awaited>
      <div className={classes.fields}>
        <TextInput size="xs" label={`Write ${project} to remove it`} value={name} onChange={(e) => setName(e.currentTarget.value)} />
        <Button size="xs" type="submit" color="red" disabled={name !== project} loading={remove.isPending}>
          Remove it
        </Button>
        <Button size="xs" variant="default" onClick={() => setOpen(false)}>
          Leave it
        </Button>
      </div>
      {remove.error && <p role="alert">{remove.error.message}</p>}
    </form>
  );
}
