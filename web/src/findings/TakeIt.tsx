import { Button, Textarea } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Finding, type Run } from "../api/client";
import { keys, meQuery } from "../app/queries";
import classes from "./findings.module.css";

/** A person's name on a cause, with a note; it stays until it is fixed. */
export function TakeIt({ finding, run, onDone }: { finding: Finding; run: Run; onDone: () => void }) {
  const client = useQueryClient();
  const me = useQuery(meQuery).data;
  const [note, setNote] = useState(finding.taken?.note ?? "");
  const settled = async () => {
    await client.invalidateQueries({ queryKey: keys.run(run.project) });
    await client.invalidateQueries({ queryKey: keys.desk() });
  };
  const take = useMutation({
    mutationFn: () =>
      api.PUT("/api/v1/projects/{project}/runs/{number}/findings/{finding}/taking", {
        params: { path: { project: run.project, number: run.run.number, finding: finding.id } },
        body: { title: finding.title.slice(0, 300), note },
      }),
    onSuccess: () => settled().then(onDone),
  });
  const give = useMutation({
    mutationFn: () => api.DELETE("/api/v1/projects/{project}/findings/{finding}/taking", { params: { path: { project: run.project, finding: finding.id } } }),
    onSuccess: () => settled().then(onDone),
  });
  const mine = finding.taken === null || finding.taken.by === me?.name;
  const error = take.error ?? give.error;
  return (
    <form
      className={classes.aside}
      onSubmit={(e) => {
        e.preventDefault();
        take.mutate();
      }}
    >
      {mine && <Textarea size="xs" label="Note" autosize minRows={2} maxLength={2000} placeholder="What is known, or where it is followed up" value={note} onChange={(e) => setNote(e.currentTarget.value)} />}
      <div className={classes.actions}>
        {mine && (
          <Button size="compact-xs" type="submit" loading={take.isPending}>
            {finding.taken ? "Keep the note" : "Take it"}
          </Button>
        )}
        {finding.taken && (
          <Button size="compact-xs" variant="default" loading={give.isPending} onClick={() => give.mutate()}>
            {mine ? "Give it back" : `Give it back for ${finding.taken.by}`}
          </Button>
        )}
      </div>
      {error && <p role="alert">{error.message}</p>}
    </form>
  );
}
