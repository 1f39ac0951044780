import { useLocalStorage, useMediaQuery } from "@mantine/hooks";
import { Button } from "@mantine/core";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { Link, useNavigate } from "react-router";
import { useAddress } from "../app/address";
import { Loading, Trouble } from "../app/Awaited";
import { useActions } from "../app/keys";
import { useTab } from "../app/tab";
import { Notice } from "../app/Notice";
import { useNow } from "../app/useNow";
import { keys, comingQuery, projectsQuery, runQuery } from "../app/queries";
import { api, taken, type Run } from "../api/client";
import { NextLook } from "../plan/NextLook";
import { nextChange } from "../strip/layout";
import { StripBand } from "../strip/StripBand";
import strips from "../strip/strip.module.css";
import { useStrip, type StripData } from "../strip/useStrip";
import { Beside } from "./Beside";
import { ByHand } from "./ByHand";
import { Legend } from "./Legend";
import { RunBody } from "./RunBody";

const StripList = lazy(() => import("../strip/StripList").then((m) => ({ default: m.StripList })));

/** A project: its strip, and below it the selected run. */
export function ProjectPage() {
  const [address] = useAddress();
  const selected = address.run !== undefined && address.branch === undefined;
  const named = useQuery({ ...runQuery(address.project, address.run ?? 0), enabled: selected, placeholderData: keepPreviousData });
  const of = selected ? named.data : undefined;
  // An address that names only a run shows the strip that this run is on.
  const line = address.branch ?? (of?.project === address.project ? lineOf(of) : undefined);
  const { data, error, again } = useStrip(address.project, line, !selected || named.isFetched);
  if (selected && !of && named.error) return <Trouble what={`Run #${address.run ?? ""}`} error={named.error} onAgain={() => void named.refetch()} />;
  if (error && !data) return <Trouble what={`The project ${address.project}`} error={error} onAgain={again} />;
  if (!data) return <Loading what={`The strip of ${address.project}`} rows={7} />;
  if (data.columns.length === 0 && address.run === undefined) return <EmptyProject project={address.project} branch={data.branch} />;
  return <Filled strip={data} />;
}

/** The line of a run as the picker names it; undefined for a run on no branch. */
export function lineOf(run: Run): string | undefined {
  if (run.pull_request !== null) return `pull request ${run.pull_request}`;
  const batch = /^pull-request batch-(\d+)$/.exec(run.run.context);
  if (batch) return `batch ${batch[1] ?? ""}`;
  return run.tag ? `tag ${run.tag}` : run.run.branch || undefined;
}

function EmptyProject({ project, branch }: { project: string; branch: string }) {
  const found = useQuery(projectsQuery).data?.find((p) => p.name === project);
  const coming = useQuery(comingQuery(project)).data;
  const client = useQueryClient();
  const start = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/projects/{project}/runs", { params: { path: { project } }, body: { ref: branch, jobs: [], cells: "" } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.strip(project) }),
  });
  return (
    <Notice title={`Nothing has run on ${branch} yet`}>
      {coming?.next_push ? `${coming.next_push} ` : `${found?.address ?? project} has no test plan that can be used yet. `}
      {coming && (
        <>
          For pushes, <NextLook at={coming.next_look ?? null} />.
        </>
      )}
      <br />
      <br />
      <Button component={Link} to={`/p/${project}/plan?first=1`} size="compact-sm" variant={coming?.next_push ? "default" : "filled"}>
        {coming?.next_push ? "Look at its test plan" : "Write its test plan"}
      </Button>{" "}
      {coming?.next_push && (
        <Button size="compact-sm" loading={start.isPending} onClick={() => start.mutate()}>
          Test {branch} now
        </Button>
      )}
      {start.error && <> {start.error.message}</>}
    </Notice>
  );
}

function Filled({ strip }: { strip: StripData }) {
  const [address, go] = useAddress();
  const narrow = useMediaQuery("(max-width: 900px)");
  const [height, setHeight] = useLocalStorage({ key: "myriant-strip-height", defaultValue: 112 });
  const now = useNow();
  const newest = strip.columns.at(-1)?.run.number;
  const selected = address.run ?? newest;
  const index = strip.columns.findIndex((c) => c.run.number === selected);
  const run = useQuery({ ...runQuery(address.project, selected ?? 0), enabled: selected !== undefined, placeholderData: (former) => (former?.project === address.project ? former : undefined) });
  const base = address.base ?? (run.isPlaceholderData ? undefined : run.data?.baseline?.number);
  useTab(run.isPlaceholderData ? undefined : run.data);
  const select = (number: number | undefined) => go({ run: number, cells: [], finding: undefined, line: undefined });
  const step = (to: number) => {
    const target = strip.columns[to];
    if (target) select(target.run.number);
  };
  const asList = address.list || narrow;
  const navigate = useNavigate();
  useActions({
    before: () => step(index < 0 ? strip.columns.length - 1 : index - 1),
    after: () => step(index < 0 ? strip.columns.length - 1 : index + 1),
    newest: () => select(undefined),
    nextChange: () => step(nextChange(strip.columns, index, 1)),
    lastChange: () => step(nextChange(strip.columns, index, -1)),
    base: () => go({ base: address.base === selected ? undefined : selected }, true),
    line: () => go({ coverage: !address.coverage }, true),
    list: () => go({ list: !address.list }, true),
  });
  return (
    <>
      {asList ? (
        <Suspense fallback={<Loading what="The list" rows={4} />}>
          <StripList strip={strip} selected={selected} base={base} now={now} onSelect={select} />
        </Suspense>
      ) : (
        <StripBand strip={strip} selected={selected} base={base} height={height} now={now} coverage={address.coverage} onHeight={setHeight} onSelect={select} onBase={(b) => go({ base: b }, true)} onRange={(from, to) => void navigate(`/p/${address.project}/trends?from=${from}&to=${to}&runs=2000${strip.branch ? `&branch=${encodeURIComponent(strip.branch)}` : ""}`)} />
      )}
      <div className={strips.tools}>
        <span>
          {address.run === undefined ? `following the newest run on ${strip.branch}` : index < 0 ? `run #${address.run} stands on no part of ${strip.branch} that is shown` : `run #${address.run} on ${strip.branch}`}
          {address.base !== undefined && <>, read against #{address.base}</>}
        </span>
        {address.run !== undefined && (
          <button type="button" className="plain" onClick={() => select(undefined)}>
            Follow the newest
          </button>
        )}
        {address.base !== undefined && (
          <button type="button" className="plain" onClick={() => go({ base: undefined }, true)}>
            Back to the gate baseline
          </button>
        )}
        {!narrow && (
          <button type="button" className="plain" onClick={() => go({ list: !address.list }, true)}>
            {asList ? "As strip" : "As list"}
          </button>
        )}
        {!asList && strip.columns.some((c) => c.coverage !== null) && (
          <button type="button" className="plain" onClick={() => go({ coverage: !address.coverage }, true)}>
            {address.coverage ? "Hide coverage" : "Show coverage"}
          </button>
        )}
        <Beside project={address.project} strip={strip} selected={selected} base={base} onBase={(b) => go({ base: b }, true)} />
        <ByHand project={address.project} branch={strip.branch} />
        {strip.loading && <span>loading older runs …</span>}
        <Legend />
      </div>
      {run.data ? (
        <RunBody run={run.data} now={now} stale={run.isPlaceholderData} />
      ) : run.error ? (
        <Trouble what={`Run #${selected ?? ""}`} error={run.error} onAgain={() => void run.refetch()} />
      ) : (
        <Loading what={`Run #${selected ?? ""}`} rows={6} />
      )}
    </>
  );
}
