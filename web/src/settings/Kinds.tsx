import { Button, Textarea } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken } from "../api/client";
import { keys, kindsQuery } from "../app/queries";
import { Loading, Trouble } from "../app/Awaited";
import { useNow } from "../app/useNow";
import { ago } from "../app/words";
import classes from "./settings.module.css";

const EXAMPLE = `[[kind]]
name = "gauge adrift"
part = "companion"
pattern = 'lost gauge (?P<which>\\d+)'
say = "Gauge {which} has come loose: moor it, then run these cells again."
`;

/** How failures of this project are recognised, and what is said then. */
export function Kinds({ project }: { project: string }) {
  const asked = useQuery(kindsQuery(project));
  const kinds = asked.data;
  const client = useQueryClient();
  const now = useNow();
  const [draft, setDraft] = useState<string>();
  const keep = useMutation({
    mutationFn: (text: string) => taken(api.PUT("/api/v1/projects/{project}/kinds", { params: { path: { project } }, body: { text } })),
    onSuccess: () => {
      setDraft(undefined);
      return client.invalidateQueries({ queryKey: keys.kinds(project) });
    },
  });
  if (!kinds) return asked.error ? <Trouble what="The list of kinds" error={asked.error} onAgain={() => void asked.refetch()} /> : <Loading what="The list of kinds" />;
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
