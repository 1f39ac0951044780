import { Button, Textarea } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../api/client";
import { auditQuery, keys } from "../app/queries";
import { Loading, Trouble } from "../app/Awaited";
import { useNow } from "../app/useNow";
import { ago, exact } from "../app/words";
import classes from "./settings.module.css";

/** What people decided: accepted, set aside, began anew; and a new beginning for a project that comes with failures. */
export function Audit({ project }: { project: string }) {
  const asked = useQuery(auditQuery(project));
  const lines = asked.data;
  const now = useNow();
  if (!lines) return asked.error ? <Trouble what="The audit record" error={asked.error} onAgain={() => void asked.refetch()} /> : <Loading what="The audit record" />;
  return (
    <section aria-label="Decisions">
      <h2>Decisions</h2>
      <p className="soft">Who accepted, set aside or began what, with the reason given. Nothing is ever taken off this list.</p>
      {lines.length > 0 && (
        <table className={classes.table}>
          <tbody>
            {lines.map((line) => (
              <tr key={line.id}>
                <td title={exact(line.at)}>{ago(line.at, now)}</td>
                <td>{line.by}</td>
                <td>{line.what}</td>
                <td>{line.said}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Beginning project={project} />
    </section>
  );
}

function Beginning({ project }: { project: string }) {
  const client = useQueryClient();
  const [reason, setReason] = useState("");
  const begin = useMutation({
    mutationFn: () => api.POST("/api/v1/projects/{project}/start", { params: { path: { project } }, body: { reason } }),
    onSuccess: () => {
      setReason("");
      return client.invalidateQueries({ queryKey: keys.audit(project) });
    },
  });
  return (
    <details>
      <summary>Begin from today</summary>
      <p className="soft">For a repository that arrives with failing tests: what fails at the head of its main branch is known from now on, and only what fails beyond it holds a commit.</p>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          begin.mutate();
        }}
      >
        <Textarea aria-label="The reason" placeholder="Why, and where the failures are followed up" autosize minRows={2} value={reason} onChange={(e) => setReason(e.currentTarget.value)} />
        <p className={classes.tools}>
          <Button size="xs" type="submit" disabled={!reason.trim()} loading={begin.isPending}>
            Begin from today
          </Button>
          {begin.error && (
            <span role="alert" className={classes.trouble}>
              {begin.error.message}
            </span>
          )}
        </p>
      </form>
    </details>
  );
}
