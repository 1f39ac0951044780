import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button } from "@mantine/core";
import { lazy, Suspense, useState } from "react";
import { Link } from "react-router";
import { useAddress, written } from "../app/address";
import { Loading } from "../app/Awaited";
import { keys, changesQuery } from "../app/queries";
import { counted, exact, short } from "../app/words";
import { api, taken, type Finding, type Run } from "../api/client";
import { asMarkdown } from "./copying";
import { FirstBad } from "./FirstBad";
import classes from "./findings.module.css";
import { Noted } from "./Noted";

const SetAside = lazy(() => import("./SetAside").then((m) => ({ default: m.SetAside })));
const TakeIt = lazy(() => import("./TakeIt").then((m) => ({ default: m.TakeIt })));

/** Since when, because of what, where else, and what to do about it. */
export function Why({ finding, run }: { finding: Finding; run: Run }) {
  const test = finding.tests[0]?.test ?? 0;
  return (
    <aside className={classes.why} aria-label="Why">
      <Since finding={finding} run={run} />
      {finding.rivals.length > 0 && <Rivals finding={finding} run={run} />}
      <Changes run={run} test={test} finding={finding.id} />
      {finding.mark !== "flaky" && <FirstBad run={run} test={test} finding={finding.id} />}
      <Actions finding={finding} run={run} />
    </aside>
  );
}

function Since({ finding, run }: { finding: Finding; run: Run }) {
  const [address] = useAddress();
  const first = finding.first_seen;
  return (
    <p>
      {first && first.number === run.run.number && finding.seen <= 1 && "Never seen before this run."}
      {finding.back_since && (
        <>
          It was mended and came back: last seen here in{" "}
          <Link to={written({ ...address, run: finding.back_since.number, finding: undefined })} title={exact(finding.back_since.at)}>
            #{finding.back_since.number}
          </Link>
          .{" "}
        </>
      )}
      {first && first.number < run.run.number && (
        <>
          First seen in{" "}
          <Link to={written({ ...address, run: first.number, finding: undefined })} title={exact(first.at)}>
            #{first.number}
          </Link>
          , in {counted(finding.seen, "run")} so far.
        </>
      )}
      {finding.because && <> One cause: {finding.because}.</>}
    </p>
  );
}

/** Other conditions that fit what ran, and the cell that tells them apart. */
function Rivals({ finding, run }: { finding: Finding; run: Run }) {
  const again = useAgain(run);
  return (
    <p>
      As likely, because some cells did not run:{" "}
      {finding.rivals.map((r, i) => (
        <span key={r}>
          {i > 0 && ", "}
          <code>{r}</code>
        </span>
      ))}
      .{" "}
      {finding.next_cell && (
        <Button size="compact-xs" variant="default" loading={again.isPending} onClick={() => finding.next_cell && again.mutate(finding.next_cell)}>
          Run {finding.next_cell} to tell
        </Button>
      )}
      {again.error && <> {again.error.message}</>}
    </p>
  );
}

function Changes({ run, test, finding }: { run: Run; test: number; finding: string }) {
  const found = useQuery(changesQuery(run.project, run.run.number, test, finding));
  const [all, setAll] = useState(false);
  if (!found.data) return found.error ? null : <Loading what="What changed since it passed" rows={2} />;
  const { commits, machine, last_passed: last } = found.data;
  const shown = all ? commits : commits.slice(0, 3);
  const equal = commits.filter((c) => c.score === commits[0]?.score).length;
  return (
    <div data-testid="changes">
      <h4>{last === null ? "It has not passed here before" : `Changed since it passed in #${last}`}</h4>
      {last !== null && commits.length === 0 && machine.length === 0 && <p>The same commit, runtimes and packages: look for chance, time and order.</p>}
      {equal > 1 && <p className="soft">{equal === commits.length ? "Nothing tells these commits apart." : `The first ${equal} are equally likely.`}</p>}
      <ol className={classes.suspects}>
        {shown.map((c) => (
          <li key={c.commit}>
            <b>{c.title}</b> <span className="soft">{c.author}, {short(c.commit)}</span>
            {c.because.map((why) => (
              <div key={why} className={classes.because}>
                {why}
              </div>
            ))}
          </li>
        ))}
      </ol>
      {commits.length > shown.length && (
        <button type="button" className="plain" onClick={() => setAll(true)}>
          {counted(commits.length - shown.length + found.data.more, "more commit")}
        </button>
      )}
      {machine.length > 0 && (
        <ul className={classes.machine}>
          {machine.slice(0, 6).map((d) => (
            <li key={`${d.section} ${d.name}`}>
              {d.section} {d.name}: <code>{d.there || "not there"}</code> → <code>{d.here || "not there"}</code>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

function useAgain(run: Run) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (cells: string) =>
      taken(api.POST("/api/v1/projects/{project}/runs/{number}/again", { params: { path: { project: run.project, number: run.run.number } }, body: { which: "chosen", cells } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.run(run.project, run.run.number) }),
  });
}

function Actions({ finding, run }: { finding: Finding; run: Run }) {
  const again = useAgain(run);
  const [copied, setCopied] = useState(false);
  const [aside, setAside] = useState(false);
  const [taking, setTaking] = useState(false);
  const cells = [...new Set(finding.cells.map((c) => [`job=${c.job}`, c.key].filter(Boolean).join(",")))].join(";");
  const copy = () => {
    void navigator.clipboard.writeText(asMarkdown(finding, run, window.location.href)).then(() => setCopied(true));
  };
  return (
    <>
      <div className={classes.actions}>
        <Button size="compact-xs" variant="default" loading={again.isPending} onClick={() => again.mutate(cells)}>
          Run these cells again
        </Button>
        <Button size="compact-xs" variant="default" onClick={() => setAside(!aside)} aria-expanded={aside}>
          Quarantine …
        </Button>
        <Button size="compact-xs" variant="default" onClick={() => setTaking(!taking)} aria-expanded={taking}>
          {finding.taken ? `Taken by ${finding.taken.by} …` : "Take it …"}
        </Button>
        <Button size="compact-xs" variant="default" onClick={copy}>
          {copied ? "Copied" : "Copy as Markdown"}
        </Button>
      </div>
      {again.error && <p>{again.error.message}</p>}
      {finding.taken?.note && !taking && (
        <p>
          {finding.taken.by}: “<Noted text={finding.taken.note} project={run.project} />” <span className="soft">{exact(finding.taken.at)}</span>
        </p>
      )}
      <Suspense fallback={null}>
        {taking && <TakeIt finding={finding} run={run} onDone={() => setTaking(false)} />}
        {aside && <SetAside project={run.project} tests={finding.tests} onDone={() => setAside(false)} />}
      </Suspense>
    </>
  );
}
