import { Button, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Run } from "../api/client";
import { ago, exact } from "../app/words";
import { keys } from "../app/queries";

/** Jobs that wait for a person's word, and the words that were said. */
export function Approvals({ run, now }: { run: Run; now: number }) {
  const client = useQueryClient();
  const [reasons, setReasons] = useState<Record<string, string>>({});
  const say = useMutation({
    mutationFn: ({ job, given, reason }: { job: string; given: boolean; reason: string }) =>
      api.POST("/api/v1/projects/{project}/runs/{number}/approvals/{job}", {
        params: { path: { project: run.project, number: run.run.number, job } },
        body: { given, reason },
      }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.run(run.project, run.run.number) }),
  });
  return run.approvals.map((a) => (
    <div key={a.job} style={{ display: "flex", flexWrap: "wrap", gap: 10, alignItems: "center", marginTop: 6 }}>
      {a.state === "waiting" ? (
        <>
          <span>
            <b>{a.job}</b> waits for an approval of {a.about} <span className="soft" title={exact(a.until)}>until {exact(a.until)}</span>
          </span>
          <TextInput size="xs" aria-label={`Why, for ${a.job}`} placeholder="why, if you like" value={reasons[a.job] ?? ""} onChange={(e) => setReasons({ ...reasons, [a.job]: e.currentTarget.value })} />
          <Button size="compact-xs" loading={say.isPending} onClick={() => say.mutate({ job: a.job, given: true, reason: reasons[a.job] ?? "" })}>
            Approve
          </Button>
          <Button size="compact-xs" variant="default" loading={say.isPending} onClick={() => say.mutate({ job: a.job, given: false, reason: reasons[a.job] ?? "" })}>
            Refuse
          </Button>
          {say.error && <span role="alert">{say.error.message}</span>}
        </>
      ) : (
        <span className="soft" title={a.at ? exact(a.at) : undefined}>
          {a.job}: approval {a.state === "late" ? "did not come in time" : `${a.state} by ${a.by}`}
          {a.at && `, ${ago(a.at, now)}`}
          {a.reason && `: “${a.reason}”`}
        </span>
      )}
    </div>
  ));
}
