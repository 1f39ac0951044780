import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, taken, type Waiver } from "../api/client";
import { Awaited } from "../app/Awaited";
import { keys, waiversQuery } from "../app/queries";
import { exactDay } from "../app/words";
import classes from "./settings.module.css";

/** Rules that need not hold for a time. */
export function Waivers({ project }: { project: string }) {
  const found = useQuery(waiversQuery(project));
  return (
    <section aria-label="Waivers">
      <h2>Waivers</h2>
      <p className="soft">Rules of the plan that need not hold for a time. One is given on the page of a run that is held, where it says what must hold; no built-in rule can be waived.</p>
      <Awaited of={found} what="The waivers" rows={1}>
        {(rows) =>
          rows.length === 0 ? (
            <p>Every rule holds.</p>
          ) : (
            <table className={classes.table}>
              <thead>
                <tr>
                  <th>Rule</th>
                  <th>Down to</th>
                  <th>Where</th>
                  <th>Until</th>
                  <th>By, and why</th>
                  <th />
                </tr>
              </thead>
              <tbody>
                {rows.map((row) => (
                  <Row key={row.id} project={project} row={row} />
                ))}
              </tbody>
            </table>
          )
        }
      </Awaited>
    </section>
  );
}

function Row({ project, row }: { project: string; row: Waiver }) {
  const client = useQueryClient();
  const end = useMutation({
    mutationFn: () => taken(api.DELETE("/api/v1/projects/{project}/waivers/{waiver}", { params: { path: { project, waiver: row.id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.waivers(project) }),
  });
  return (
    <tr className={row.over ? "soft" : undefined}>
      <td>{row.rule}</td>
      <td>
        <Link to={`/p/${encodeURIComponent(project)}/runs/${row.run}`}>{row.shown}</Link>
      </td>
      <td>{row.context || "everywhere"}</td>
      <td>{exactDay(row.until)}</td>
      <td>
        {row.by}: {row.reason}
      </td>
      <td>
        {row.over ? (
          row.ended_why || "over"
        ) : (
          <Button size="compact-xs" variant="default" loading={end.isPending} onClick={() => end.mutate()} aria-label={`End the waiver of ${row.rule}`}>
            End it
          </Button>
        )}
        {end.error && <span role="alert">{end.error.message}</span>}
      </td>
    </tr>
  );
}
