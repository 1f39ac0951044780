import { useEffect, useRef } from "react";
import { Link } from "react-router";
import type { TestView } from "../api/client";
import { StatusMark } from "../marks/StatusMark";
import type { Mark } from "../marks/shapes";
import classes from "./tests.module.css";

const marks: Record<string, Mark> = { passed: "passed", failed: "new", errored: "new", skipped: "skipped", flaky: "flaky" };
const MOST = 80;

/** Outcomes of a test: a column for each run in the order of ancestry, a row for each cell; the newest at the right. */
export function PastGrid({ test, to }: { test: TestView; to: (run: number) => string }) {
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (box.current) box.current.scrollLeft = box.current.scrollWidth;
  }, [test.test]);
  const runs = test.runs.slice(-MOST);
  const found = new Map(test.results.map((r) => [`${r.run} ${r.cell}`, r.outcome]));
  return (
    <div ref={box} className={classes.past} tabIndex={0} role="region" aria-label="Outcomes by run and cell">
      <table>
        <tbody>
          {test.cells.map((cell) => (
            <tr key={cell}>
              <th scope="row">{cell || test.job}</th>
              {runs.map((run) => {
                const outcome = found.get(`${run.number} ${cell}`);
                return <td key={run.number}>{outcome && <StatusMark mark={marks[outcome] ?? "absent"} size={11} label={`#${run.number} ${cell}: ${outcome}`} />}</td>;
              })}
            </tr>
          ))}
          <tr>
            <th scope="row">run</th>
            {runs.map((run, i) => (
              <td key={run.number} className={classes.number}>
                {(i === runs.length - 1 || i % 10 === 0) && (
                  <Link to={to(run.number)} title={run.title}>
                    {run.number}
                  </Link>
                )}
              </td>
            ))}
          </tr>
        </tbody>
      </table>
    </div>
  );
}
