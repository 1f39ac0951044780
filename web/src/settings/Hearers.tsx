import { Button, Select, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken, type Hearer } from "../api/client";
import { Awaited } from "../app/Awaited";
import { hearersQuery, keys } from "../app/queries";
import { counted } from "../app/words";
import classes from "./settings.module.css";

const WANTS = { all: "every piece of news", mine: "only what may be theirs", nothing: "nothing" } as const;
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** How people hear by mail, whatever the ways say: what of it, and when. */
export function Hearers({ project }: { project: string }) {
  const found = useQuery(hearersQuery(project));
  const [shown, setShown] = useState<Hearer | "new">();
  return (
    <section aria-label="How people hear">
      <h2>How people hear</h2>
      <p className="soft">Mail goes to whom the ways and the plan name. Here each says what of it they want, when it is quiet, and whether news is gathered into one mail. Nobody is told one thing twice.</p>
      <Awaited of={found} what="How people hear" rows={1}>
        {(rows) =>
          rows.length > 0 && (
            <table className={classes.table}>
              <thead>
                <tr>
                  <th>Who</th>
                  <th>Hears</th>
                  <th>Quiet</th>
                  <th>In one mail</th>
                  <th />
                </tr>
              </thead>
              <tbody>
                {rows.map((row) => (
                  <Row key={row.address} project={project} row={row} onChange={() => setShown(row)} />
                ))}
              </tbody>
            </table>
          )
        }
      </Awaited>
      {shown ? (
        <Form key={shown === "new" ? "" : shown.address} project={project} of={shown === "new" ? undefined : shown} onDone={() => setShown(undefined)} />
      ) : (
        <Button size="compact-xs" variant="default" onClick={() => setShown("new")}>
          Say how somebody hears …
        </Button>
      )}
    </section>
  );
}

function Row({ project, row, onChange }: { project: string; row: Hearer; onChange: () => void }) {
  const client = useQueryClient();
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/projects/{project}/hearers/{address}", { params: { path: { project, address: row.address } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.ways(project) }),
  });
  return (
    <tr>
      <td>{row.address}</td>
      <td>
        {WANTS[row.wants]}
        {row.kept > 0 && <span className="soft">, {counted(row.kept, "piece")} kept until then</span>}
      </td>
      <td>{row.quiet || "never"}</td>
      <td>{row.gathered || "no"}</td>
      <td className={classes.copies}>
        <Button size="compact-xs" variant="default" onClick={onChange} aria-label={`Change how ${row.address} hears`}>
          Change
        </Button>
        <Button size="compact-xs" variant="default" loading={remove.isPending} onClick={() => remove.mutate()} aria-label={`Let ${row.address} hear as the ways say`}>
          As the ways say
        </Button>
        {remove.error && <span role="alert">{remove.error.message}</span>}
      </td>
    </tr>
  );
}

function Form({ project, of, onDone }: { project: string; of: Hearer | undefined; onDone: () => void }) {
  const client = useQueryClient();
  const [address, setAddress] = useState(of?.address ?? "");
  const [wants, setWants] = useState<Hearer["wants"]>(of?.wants ?? "mine");
  const [quiet, setQuiet] = useState(of?.quiet ?? "");
  const [gathered, setGathered] = useState(of?.gathered ?? "");
  const keep = useMutation({
    mutationFn: () => taken(api.PUT("/api/v1/projects/{project}/hearers/{address}", { params: { path: { project, address } }, body: { wants, quiet, gathered } })),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: keys.ways(project) });
      onDone();
    },
  });
  return (
    <form
      className={classes.way}
      aria-label="How somebody hears"
      onSubmit={(e) => {
        e.preventDefault();
        keep.mutate();
      }}
    >
      <div className={classes.fields}>
        <TextInput label="Address" value={address} onChange={(e) => setAddress(e.currentTarget.value)} disabled={of !== undefined} required />
        <Select label="Hears" data={Object.entries(WANTS).map(([value, label]) => ({ value, label }))} value={wants} onChange={(v) => v && setWants(v as Hearer["wants"])} allowDeselect={false} />
        <TextInput label="Quiet hours" placeholder={`22:00-07:00 ${zone}`} value={quiet} onChange={(e) => setQuiet(e.currentTarget.value)} disabled={wants === "nothing"} />
        <TextInput label="Gathered in one mail" placeholder={`weekday 08:00 ${zone}`} value={gathered} onChange={(e) => setGathered(e.currentTarget.value)} disabled={wants === "nothing"} />
      </div>
      {keep.error && <p role="alert">{keep.error.message}</p>}
      <div className={classes.tools}>
        <Button size="compact-sm" type="submit" loading={keep.isPending}>
          Keep it
        </Button>
        <Button size="compact-sm" variant="default" onClick={onDone}>
          Not now
        </Button>
      </div>
    </form>
  );
}
