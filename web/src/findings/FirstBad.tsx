import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button } from "@mantine/core";
import { keys, searchQuery } from "../app/queries";
import { counted, duration, short } from "../app/words";
import { api, taken, type Run } from "../api/client";
import classes from "./findings.module.css";

/** The search for the first bad commit: its cost before, its state while it runs, its answer. */
export function FirstBad({ run, test, finding }: { run: Run; test: number; finding: string }) {
  const client = useQueryClient();
  const found = useQuery(searchQuery(run.project, run.run.number, test, finding));
  const path = { project: run.project, number: run.run.number, test };
  const done = () => client.invalidateQueries({ queryKey: keys.run(run.project, run.run.number, "search", test) });
  const begin = useMutation({ mutationFn: () => taken(api.POST("/api/v1/projects/{project}/runs/{number}/tests/{test}/search", { params: { path, query: { finding } } })), onSuccess: done });
  const stop = useMutation({ mutationFn: () => taken(api.DELETE("/api/v1/projects/{project}/runs/{number}/tests/{test}/search", { params: { path, query: { finding } } })), onSuccess: done });
  const search = found.data;
  if (!search || (search.id === null && search.commits.length <= 1)) return null;
  const highest = Math.max(...search.commits.map((c) => c.chance), 0.001);
  return (
    <div data-testid="first-bad">
      <h4>First bad commit</h4>
      {search.state === "proposed" && (
        <p>
          {counted(search.commits.length, "commit")} since it passed in {search.job} {search.key}. A search takes about {counted(Math.ceil(search.expected), "try", "tries")}, {search.at_once} at
          once{search.seconds !== null && `, some ${duration(search.seconds)}`}.{" "}
          <Button size="compact-xs" variant="default" loading={begin.isPending} onClick={() => begin.mutate()}>
            Find it
          </Button>
        </p>
      )}
      {search.said && <p>{search.said}.</p>}
      {search.answer && (
        <p>
          <b>{search.answer.title}</b> <span className="soft">{search.answer.author}, {short(search.answer.commit)}</span>
        </p>
      )}
      {search.id !== null && (
        <ol className={classes.search} aria-label="Commits, oldest first">
          {search.commits.slice(-40).map((c) => (
            <li key={c.commit} title={`${short(c.commit)} ${c.title}: ${counted(c.passed, "pass", "passes")}, ${counted(c.failed, "failure")}${c.running ? ", running" : ""}`}>
              <i style={{ height: `${Math.round((20 * c.chance) / highest) + 1}px` }} data-running={c.running} />
              <span>{c.failed > 0 ? "×".repeat(Math.min(c.failed, 3)) : c.passed > 0 ? "·" : " "}</span>
            </li>
          ))}
        </ol>
      )}
      {search.state === "running" && (
        <p>
          {counted(search.tries, "try", "tries")} so far, about {Math.ceil(search.expected)} expected.{" "}
          <Button size="compact-xs" variant="default" loading={stop.isPending} onClick={() => stop.mutate()}>
            Stop
          </Button>
        </p>
      )}
      {(search.state === "stopped" || search.state === "given-up") && (
        <Button size="compact-xs" variant="default" loading={begin.isPending} onClick={() => begin.mutate()}>
          Go on
        </Button>
      )}
      {(begin.error ?? stop.error) && <p>{(begin.error ?? stop.error)?.message}</p>}
    </div>
  );
}
