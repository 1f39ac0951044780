import "@mantine/core/styles/Overlay.css";
import "@mantine/core/styles/ModalBase.css";
import "@mantine/core/styles/Modal.css";
import { Button, Modal, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, taken } from "../api/client";
import { useAddress, written } from "../app/address";
import { keys, meaningQuery, runQuery, standingQuery } from "../app/queries";
import { duration } from "../app/words";
import { selectorOf } from "./Actions";
import classes from "./run.module.css";

/** Have a branch, tag or commit tested, all of it or a part, and see before what would run. */
export function ByHandForm({ project, branch, onDone }: { project: string; branch: string; onDone: () => void }) {
  return (
    <Modal opened onClose={onDone} title="Run by hand" closeButtonProps={{ "aria-label": "Close" }} size={560} shadow="none">
      <Form project={project} branch={branch} onDone={onDone} />
    </Modal>
  );
}

function Form({ project, branch, onDone }: { project: string; branch: string; onDone: () => void }) {
  const [address] = useAddress();
  const client = useQueryClient();
  const navigate = useNavigate();
  const shown = useQuery({ ...runQuery(project, address.run ?? 0), enabled: address.run !== undefined }).data;
  const chosen = (shown?.cells ?? []).filter((c) => address.cells.includes(`${c.job}/${c.key}`));
  const [ref, setRef] = useState(branch.startsWith("pull request ") ? "" : branch.replace(/^tag /, ""));
  const [jobs, setJobs] = useState<string[]>([]);
  const [cells, setCells] = useState(selectorOf(chosen));
  const standing = useQuery(standingQuery(project, undefined)).data;
  const text = standing?.text ?? "";
  const event = { kind: "manual", branch: ref, source: "", tag: "", schedule: "" };
  const whole = useQuery({ ...meaningQuery(project, text, { ...event, jobs: null, cells: "" }), enabled: text !== "" }).data?.rehearsal;
  const part = useQuery({ ...meaningQuery(project, text, { ...event, jobs, cells }), enabled: text !== "" }).data?.rehearsal;
  const known = whole?.jobs.filter((j) => j.runs) ?? [];
  const start = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/projects/{project}/runs", { params: { path: { project } }, body: { ref, jobs, cells } })),
    onSuccess: async (begun) => {
      await client.invalidateQueries({ queryKey: keys.strip(project) });
      onDone();
      const number = begun.runs[0];
      if (number !== undefined) void navigate(written({ project, run: number }));
    },
  });
  return (
    <form
      className={classes.byHand}
      onSubmit={(e) => {
        e.preventDefault();
        start.mutate();
      }}
    >
      <TextInput size="xs" label="Branch, tag or commit" placeholder="the main branch" value={ref} onChange={(e) => setRef(e.currentTarget.value)} />
      {known.length > 1 && (
        <div role="group" aria-label="Jobs" className={classes.jobs}>
          <span className="soft">Jobs</span>
          {known.map((job) => (
            <button key={job.job} type="button" className="plain" aria-pressed={jobs.includes(job.job)} onClick={() => setJobs(jobs.includes(job.job) ? jobs.filter((j) => j !== job.job) : [...jobs, job.job])}>
              {job.title}
            </button>
          ))}
          {jobs.length === 0 && <span className="soft">all of them</span>}
        </div>
      )}
      <TextInput size="xs" label="Only cells with" placeholder="all cells; for example python=3.12 or python<=3.9" value={cells} onChange={(e) => setCells(e.currentTarget.value)} />
      {part && (
        <p className="soft">
          By the plan of the main branch: {part.reason || part.sentence}
          {part.forecast.known > 0 && ` It should take about ${duration(part.forecast.seconds)}.`}{" "}
          {jobs.length > 0 || cells ? "A part of a run is evidence; the commit's word does not hang on it." : "It counts like a push, where the commit is on a branch."}
        </p>
      )}
      {start.error && <p role="alert">{start.error.message}</p>}
      <Button type="submit" size="xs" loading={start.isPending}>
        Run it
      </Button>
    </form>
  );
}
