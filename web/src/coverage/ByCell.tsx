import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useAddress } from "../app/address";
import { coverageByCellQuery } from "../app/queries";
import { Loading, Trouble } from "../app/Awaited";
import type { Run } from "../api/client";
import { percent } from "./shapes";
import classes from "./coverage.module.css";

/** What each cell adds, asked for when somebody wants to know: it is about the matrix, not about the change. */
export function ByCell({ run }: { run: Run }) {
  const [address, go] = useAddress();
  const [open, setOpen] = useState(false);
  const found = useQuery({ ...coverageByCellQuery(run.project, run.run.number, address.job), enabled: open });
  return (
    <section className={classes.part} aria-label="What each cell adds">
      <h3>
        What each cell adds{" "}
        <button type="button" className="plain" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "put away" : "show"}
        </button>
      </h3>
      {open && !found.data && (found.error ? <Trouble what="The cells" error={found.error} onAgain={() => void found.refetch()} /> : <Loading what="What each cell adds" rows={3} />)}
      {open && found.data && (
        <>
          <p className="soft">{found.data.said}</p>
          <table className={classes.cells}>
            <thead>
              <tr>
                <th scope="col">Cell</th>
                <th scope="col">Lines it reaches</th>
                <th scope="col">Of all that are</th>
                <th scope="col">By it alone</th>
                <th scope="col">Among the few that do</th>
              </tr>
            </thead>
            <tbody>
              {found.data.cells.map((cell) => (
                <tr key={`${cell.job}/${cell.key}`}>
                  <th scope="row">
                    <button type="button" className="plain mono" onClick={() => go({ section: "evidence", cells: [`${cell.job}/${cell.key}`] })}>
                      {cell.job} {cell.key}
                    </button>
                  </th>
                  <td className="tabular">{cell.reached.toLocaleString("en")}</td>
                  <td className="tabular soft">{percent(cell.reached, found.data.lines)}</td>
                  <td className="tabular">{cell.alone.toLocaleString("en")}</td>
                  <td>{cell.least ? "yes" : ""}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </section>
  );
}
