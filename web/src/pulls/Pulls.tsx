import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox } from "@mantine/core";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, taken, type Pull } from "../api/client";
import { Awaited } from "../app/Awaited";
import { keys, meQuery, pullsQuery } from "../app/queries";
import { useNow } from "../app/useNow";
import { ago, counted, exact, middle, short } from "../app/words";
import { StatusMark, VerdictMark } from "../marks/StatusMark";
import { markOfLetter } from "../marks/shapes";
import { Batches } from "./Batches";
import classes from "./pulls.module.css";

const MOST_MARKS = 24;

/** Pull requests: what is said of each as it would be merged, at which heads, and what stands in its way. */
export function Pulls() {
  const { project = "" } = useParams();
  const [closed, setClosed] = useState(false);
  const [chosen, setChosen] = useState<number[]>([]); // in the order in which they were chosen
  const found = useQuery(pullsQuery(project, closed));
  const now = useNow();
  return (
    <div className={classes.page}>
      <Awaited of={found} what="The pull requests" rows={6}>
        {(data) => (
          <>
            <h1>{data.said}</h1>
            {data.pulls.length === 0 && !closed && (
              <p className="soft">
                One is opened by <code>myriant pull-request</code>, by an event over HTTP, or is found as a ref when the <Link to={`/p/${project}/settings`}>settings</Link> say which refs they are.
              </p>
            )}
            <ul className={classes.list}>
              {data.pulls.map((pull) => (
                <Row key={pull.number} project={project} pull={pull} now={now} place={chosen.indexOf(pull.number)} onChoose={closed || pull.asks || data.pulls.length < 2 ? undefined : (yes) => setChosen(yes ? [...chosen, pull.number] : chosen.filter((n) => n !== pull.number))} />
              ))}
            </ul>
            {!closed && <Together project={project} chosen={chosen.filter((n) => data.pulls.some((p) => p.number === n))} onDone={() => setChosen([])} />}
            {!closed && <Batches project={project} batches={data.batches} now={now} />}
            {(closed || data.closed > 0) && (
              <button type="button" className={`plain ${classes.other ?? ""}`} onClick={() => setClosed(!closed)}>
                {closed ? "Those that are open" : counted(data.closed, "that is over", "that are over")}
              </button>
            )}
          </>
        )}
      </Awaited>
    </div>
  );
}

/** Test what is chosen as the target would become with all of it. */
function Together({ project, chosen, onDone }: { project: string; chosen: readonly number[]; onDone: () => void }) {
  const client = useQueryClient();
  const [merge, setMerge] = useState(false);
  const may = ["maintainer", "admin"].includes(useQuery(meQuery).data?.role ?? "");
  const begin = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/projects/{project}/batches", { params: { path: { project } }, body: { pulls: [...chosen], merge } })),
    onSuccess: async () => {
      onDone();
      await client.invalidateQueries({ queryKey: keys.strip(project) });
    },
  });
  if (chosen.length < 2) return null;
  return (
    <div className={classes.together} role="group" aria-label="Test together">
      <span>
        {chosen.join(", ")}: merged one upon the other in this order, tested as one, and the one that breaks it found.
      </span>
      {may && <Checkbox size="xs" label="and merged once they are clear" checked={merge} onChange={(e) => setMerge(e.currentTarget.checked)} />}
      <Button size="compact-xs" loading={begin.isPending} onClick={() => begin.mutate()}>
        Test them together
      </Button>
      {begin.error && <span role="alert">{begin.error.message}</span>}
    </div>
  );
}

function Row({ project, pull, now, place, onChoose }: { project: string; pull: Pull; now: number; place: number; onChoose: ((yes: boolean) => void) | undefined }) {
  const client = useQueryClient();
  const test = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/projects/{project}/pull-requests/{number}/runs", { params: { path: { project, number: pull.number } } })),
    onSettled: () => client.invalidateQueries({ queryKey: keys.strip(project) }),
  });
  const letRun = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/projects/{project}/pull-requests/{number}/word", { params: { path: { project, number: pull.number } }, body: { head: pull.asks } })),
    onSettled: () => client.invalidateQueries(),
  });
  const to = `/p/${project}${pull.newest ? `/runs/${pull.newest.number}` : ""}?branch=${encodeURIComponent(`pull request ${pull.number}`)}`;
  return (
    <li className={classes.pull} aria-label={`Pull request ${pull.number}`}>
      <div className={classes.mark}>
        <VerdictMark verdict={pull.verdict} size={16} />
        {onChoose && <input type="checkbox" aria-label={`Test ${pull.number} together with others${place < 0 ? "" : `, as number ${place + 1}`}`} checked={place >= 0} onChange={(e) => onChoose(e.currentTarget.checked)} />}
      </div>
      <div className={classes.what}>
        <div>
          <span className="tabular soft">{pull.number}</span>{" "}
          <Link to={to} title={pull.title}>
            <b>{middle(pull.title || `${pull.source} into ${pull.target}`, 110)}</b>
          </Link>
        </div>
        <div>{pull.newest ? pull.newest.sentence : "It has not been tested yet."}</div>
        <div className="soft">
          {pull.author}
          {pull.author && ", "}
          <span className="mono">{middle(pull.source, 40)}</span> into <span className="mono">{pull.target}</span>, opened <span title={exact(pull.opened_at)}>{ago(pull.opened_at, now)}</span>
          {pull.new > 0 && ` · ${counted(pull.new, "new failure")}`}
          {pull.changed_covered && ` · ${pull.changed_covered} of the changed lines covered`}
        </div>
      </div>
      <ol className={classes.heads} aria-label="Its heads, oldest first">
        {pull.heads.slice(-8).map((head) => (
          <li key={head.number}>
            <Link to={`/p/${project}/runs/${head.number}`} title={`#${head.number} at ${short(head.commit)}: ${head.title}\n${head.new} new, ${head.fixed} fixed`}>
              <span className={classes.marks}>
                {Array.from(head.marks.slice(0, MOST_MARKS)).map((letter, i) => (
                  <StatusMark key={i} mark={markOfLetter(letter)} size={7} advisory={letter !== letter.toLowerCase()} />
                ))}
              </span>
              <VerdictMark verdict={head.verdict} size={12} />
            </Link>
          </li>
        ))}
      </ol>
      <div className={classes.merge} data-ready={pull.mergeable}>
        <span>{pull.merge.charAt(0).toUpperCase() + pull.merge.slice(1)}.</span>
        {pull.state === "open" && !pull.asks && (pull.stale || !pull.newest) && (
          <button type="button" className="plain" disabled={test.isPending} onClick={() => test.mutate()}>
            Test it as it stands now
          </button>
        )}
        {pull.asks && (
          <>
            <span className="soft">
              Look at what it runs and what it changes in the plan, for example with <span className="mono">git diff {pull.target}...{short(pull.asks)}</span>. It gets no secrets and saves no cache.
            </span>
            <button type="button" className="plain" disabled={letRun.isPending} onClick={() => letRun.mutate()}>
              Let it run at {short(pull.asks)}
            </button>
          </>
        )}
        {letRun.error && <span role="alert">{letRun.error.message}</span>}
        {test.error && <span role="alert">{test.error.message}</span>}
      </div>
    </li>
  );
}
