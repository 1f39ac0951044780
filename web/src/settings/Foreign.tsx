import { Button, PasswordInput, Textarea } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken, type Foreign as Kept } from "../api/client";
import { Awaited } from "../app/Awaited";
import { foreignQuery, keys } from "../app/queries";
import classes from "./settings.module.css";

const USUAL = `{
  "number": "/change/id",
  "source": "/change/from",
  "target": "/change/into",
  "title": "/change/title",
  "author": "/change/author/name",
  "may-write": "/change/author/writer",
  "state": "/happened",
  "states": {"opened": "open", "updated": "open", "landed": "merged", "dropped": "closed"},
  "proof": {"header": "X-Town-Signature", "how": "hmac-sha256", "before": "sha256="}
}`;

/** Events of a host that has a shape of its own: where its fields stand, tried against an example. */
export function Foreign({ project }: { project: string }) {
  const found = useQuery(foreignQuery(project));
  return (
    <section aria-label="Events of another host">
      <h2>Events of another host</h2>
      <p className="soft">
        A host that sends requests in a shape of its own is understood by a mapping: where each field stands in its body, as a JSON Pointer. It sends them to <code>POST /api/v1/foreign-events?project={project}</code>.
      </p>
      <Awaited of={found} what="The mapping" rows={2}>
        {(kept) => <Fields key={`${kept.mapping}/${kept.secret}`} project={project} kept={kept} />}
      </Awaited>
    </section>
  );
}

function Fields({ project, kept }: { project: string; kept: Kept }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(kept.mapping !== "");
  const [mapping, setMapping] = useState(kept.mapping || USUAL);
  const [secret, setSecret] = useState("");
  const [example, setExample] = useState("");
  const attempt = useMutation({ mutationFn: () => taken(api.POST("/api/v1/projects/{project}/foreign-events/try", { params: { path: { project } }, body: { mapping, example } })) });
  const keep = useMutation({
    mutationFn: (body: { mapping: string; secret: string | null }) => api.PUT("/api/v1/projects/{project}/foreign-events", { params: { path: { project } }, body }),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.foreign(project) }),
  });
  if (!open)
    return (
      <Button size="compact-xs" variant="default" onClick={() => setOpen(true)}>
        Understand another host …
      </Button>
    );
  const error = keep.error ?? attempt.error;
  return (
    <form
      className={classes.way}
      onSubmit={(e) => {
        e.preventDefault();
        keep.mutate({ mapping, secret: secret || null });
      }}
    >
      <Textarea size="xs" label="Where its fields stand, JSON" autosize minRows={6} maxRows={18} classNames={{ input: "mono" }} value={mapping} onChange={(e) => setMapping(e.currentTarget.value)} />
      <Textarea size="xs" label="An example of what it sends" autosize minRows={4} maxRows={14} classNames={{ input: "mono" }} value={example} onChange={(e) => setExample(e.currentTarget.value)} />
      <div className={classes.fields}>
        <Button size="xs" variant="default" disabled={!example.trim()} loading={attempt.isPending} onClick={() => attempt.mutate()}>
          Try it
        </Button>
        {attempt.data && <span role="status">{attempt.data.said}</span>}
      </div>
      <div className={classes.fields}>
        <PasswordInput size="xs" label="The secret that it knows" placeholder={kept.secret ? "kept" : ""} value={secret} onChange={(e) => setSecret(e.currentTarget.value)} />
        <Button size="xs" type="submit" loading={keep.isPending}>
          Keep it
        </Button>
        {kept.mapping && (
          <Button size="xs" variant="default" loading={keep.isPending} onClick={() => keep.mutate({ mapping: "", secret: null })}>
            Take none any more
          </Button>
        )}
      </div>
      {error && <p role="alert">{error.message}</p>}
    </form>
  );
}
