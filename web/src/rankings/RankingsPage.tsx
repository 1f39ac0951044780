import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, useParams } from "react-router";
import type { Rankings } from "../api/client";
import { Awaited } from "../app/Awaited";
import { rankingsQuery } from "../app/queries";
import { counted, duration } from "../app/words";
import classes from "./rankings.module.css";

/** Where effort would pay most: what held runs, what says the same twice, what is slow, which files break things. */
export function RankingsPage() {
  const { project = "" } = useParams();
  const found = useQuery(rankingsQuery(project));
  return (
    <div className={classes.page}>
      <Awaited of={found} what="What costs most" rows={9}>
        {(data) => <Told project={project} data={data} />}
      </Awaited>
    </div>
  );
}

export function Told({ project, data }: { project: string; data: Rankings }) {
  const test = (number: number, title: string) => (
    <Link className="mono" to={`/p/${encodeURIComponent(project)}/tests/${number}`} title={title}>
      {title}
    </Link>
  );
  return (
    <>
      <h1>{data.said}</h1>
      <Part title="Tests that held most pushes" none="No test failed." rows={data.failing} heads={["Test", "Held", "Failed in", "Began to fail"]}>
        {(row) => [test(row.test, row.title), row.held, counted(row.runs, "run"), counted(row.began, "time")]}
      </Part>
      <Part title="Always together" none="No two tests failed in the very same runs." rows={data.together} heads={["These failed in the same runs, and in no other", "Tests", "Runs"]} about="One of a group tells as much as all of it, so far.">
        {(row) => [
          <span className={`mono ${classes.titles ?? ""}`} key="titles">
            {row.titles.join(", ")}
            {row.tests > row.titles.length && ` and ${(row.tests - row.titles.length).toLocaleString("en")} more`}
          </span>,
          row.tests.toLocaleString("en"),
          row.runs,
        ]}
      </Part>
      <Part
        title="Slowest tests"
        none="No test takes 10 ms in all cells together, as far as they say how long they take."
        rows={data.slow}
        heads={["Test", "All cells together", "The run would gain"]}
        about={data.run !== null && data.longest !== null ? `Of #${data.run}, whose longest cell took ${duration(data.longest)}: only what its longest cells lose makes a run shorter.` : undefined}
      >
        {(row) => [test(row.test, row.title), duration(row.seconds), row.gain >= 0.05 ? duration(row.gain) : "nothing"]}
      </Part>
      <Part
        title="Files whose changes break things"
        none={`No file is known to break more than others do: ${data.broke} of ${counted(data.pushes, "push", "pushes")} on top of what was clear broke something.`}
        rows={data.files}
        heads={["File", "Changes that broke", "At least, 95 % sure"]}
        about={`${data.broke} of ${counted(data.pushes, "push", "pushes")} on top of what was clear broke something.`}
      >
        {(row) => [<span className="mono" key="path">{row.path}</span>, `${row.broke} of ${row.changes}`, `${Math.floor(row.low * 100)} %`]}
      </Part>
      <Part title="How cells ended badly" none="Every cell passed." rows={data.endings} heads={["Why", "Cells", "Minutes of theirs"]}>
        {(row) => [row.said, row.cells.toLocaleString("en"), row.minutes.toLocaleString("en", { maximumFractionDigits: row.minutes < 10 ? 1 : 0 })]}
      </Part>
    </>
  );
}

interface PartProps<Row> {
  title: string;
  rows: Row[];
  heads: string[];
  none: string;
  about?: string | undefined;
  children: (row: Row) => ReactNode[];
}

function Part<Row>({ title, rows, heads, none, about, children }: PartProps<Row>) {
  return (
    <section aria-label={title} className={classes.part}>
      <h2>{title}</h2>
      {rows.length === 0 ? <p className="soft">{none}</p> : about && <p className="soft">{about}</p>}
      {rows.length > 0 && (
        <table>
          <thead>
            <tr>
              {heads.map((head) => (
                <th key={head} scope="col">
                  {head}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row, i) => (
              <tr key={i}>
                {children(row).map((cell, j) => (
                  <td key={heads[j]}>{cell}</td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
