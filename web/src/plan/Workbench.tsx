import { Button, Menu } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { meaningQuery, standingQuery, wordsQuery } from "../app/queries";
import { Loading, Trouble } from "../app/Awaited";
import { counted, short } from "../app/words";
import { api, taken, type Meaning, type Standing } from "../api/client";
import { usePlanAddress, views, type View } from "./address";
import type { Known } from "./context";
import { Difference } from "./Difference";
import { Editor } from "./Editor";
import { FirstSteps } from "./FirstVisit";
import { Forms } from "./Forms";
import { MeaningPane } from "./MeaningPane";
import { Problems } from "./Problems";
import { ReplayPane } from "./ReplayPane";
import { SavePlan } from "./SavePlan";
import { Side } from "./Side";
import { Simulator } from "./Simulator";
import { useDraft } from "./useDraft";
import classes from "./plan.module.css";

const titles: Record<View, string> = { text: "Text", forms: "Forms", difference: "Difference" };

/** The plan workbench: what the repository shows, the plan's text or forms, and what it means. */
export function Workbench() {
  const [address] = usePlanAddress();
  const standing = useQuery(standingQuery(address.project, address.branch));
  if (!standing.data) return standing.error ? <Trouble what="The plan workbench" error={standing.error} onAgain={() => void standing.refetch()} /> : <Loading what="The plan workbench" rows={8} />;
  return <Bench key={`${address.project}/${standing.data.branch}`} standing={standing.data} />;
}

function Bench({ standing }: { standing: Standing }) {
  const [address, go] = usePlanAddress();
  const draft = useDraft(address.project, standing);
  const [settled] = useDebouncedValue(draft.text, 220);
  const meaning = useQuery(meaningQuery(address.project, settled, address.event));
  const words = useQuery(wordsQuery).data;
  const cursor = useRef(1);
  const [saving, setSaving] = useState(false);
  const [gate, setGate] = useState(false);
  const known = useMemo(() => knownOf(words, meaning.data, standing), [words, meaning.data, standing]);
  const current = settled === draft.text ? meaning.data : undefined;
  const insert = async (piece: string) => {
    const done = await taken(api.POST("/api/v1/plan/insert", { body: { text: draft.text, piece, line: cursor.current } }));
    draft.write(done.text);
    go({ line: done.line, view: "text" });
  };
  const format = async () => {
    const done = await taken(api.POST("/api/v1/plan/format", { body: { text: draft.text } }));
    draft.write(done.text);
  };
  return (
    <div className={classes.bench}>
      {address.first && <FirstSteps now={2} />}
      <header className={classes.head}>
        <h1>{headline(standing, draft.changed, current)}</h1>
        <span className={classes.space} />
        {draft.changed && (
          <Button variant="subtle" size="compact-sm" onClick={draft.forget}>
            Put back
          </Button>
        )}
        <Button variant="default" size="compact-sm" onClick={() => void format()}>
          Format
        </Button>
        <Menu position="bottom-end" shadow="none" width={240}>
          <Menu.Target>
            <Button variant="default" size="compact-sm">
              More
            </Button>
          </Menu.Target>
          <Menu.Dropdown>
            <Menu.Item component="a" href={URL.createObjectURL(new Blob([draft.text], { type: "application/toml" }))} download="myriant.toml">
              Download myriant.toml
            </Menu.Item>
            <Menu.Item onClick={() => void navigator.clipboard.writeText(draft.text)}>Copy the text</Menu.Item>
            <Menu.Item component={Link} to={`/p/${address.project}`}>
              Leave for the runs
            </Menu.Item>
          </Menu.Dropdown>
        </Menu>
        <Button size="compact-sm" disabled={!draft.text.trim()} onClick={() => setSaving(true)}>
          Save…
        </Button>
      </header>
      {draft.stale && (
        <p className={classes.stale} role="alert">
          The plan in the repository has changed since this was begun. Saving would replace it: look at the difference first.
        </p>
      )}
      <div className={classes.columns}>
        <Side standing={standing} text={draft.text} pieces={words?.pieces ?? []} onTake={draft.write} onInsert={(p) => void insert(p)} />
        <section className={classes.middle} aria-label="The plan">
          <div className={classes.views} role="tablist" aria-label="Views of the plan">
            {views.map((v) => (
              <button key={v} type="button" role="tab" id={`view-${v}`} aria-selected={address.view === v} aria-controls="plan-view" className="plain" onClick={() => go({ view: v })}>
                {titles[v]}
              </button>
            ))}
            <span className={classes.space} />
            <ProblemCount meaning={current} />
          </div>
          <div className={classes.document} id="plan-view" role="tabpanel" aria-labelledby={`view-${address.view}`}>
            {address.view === "text" && (
              <Editor
                text={draft.text}
                problems={current?.problems ?? []}
                known={known}
                line={address.line}
                onChange={draft.write}
                onLine={(line) => {
                  cursor.current = line;
                }}
              />
            )}
            {address.view === "forms" && <Forms text={draft.text} meaning={meaning.data} known={known} onText={draft.write} />}
            {address.view === "difference" && <Difference lines={meaning.data?.difference ?? []} loosened={meaning.data?.loosened ?? []} />}
          </div>
          <Problems problems={current?.problems ?? []} text={draft.text} onText={draft.write} onPlace={(line) => go({ line, view: "text" })} />
        </section>
        <section className={classes.right} aria-label={gate ? "The gate over past runs" : "What it means"}>
          <div className={classes.views} role="tablist" aria-label="What the draft does">
            <button type="button" role="tab" aria-selected={!gate} className="plain" onClick={() => setGate(false)}>
              What it means
            </button>
            <button type="button" role="tab" aria-selected={gate} className="plain" onClick={() => setGate(true)}>
              Its gate over past runs
            </button>
          </div>
          {gate ? (
            <ReplayPane project={address.project} branch={standing.branch} text={settled} />
          ) : (
            <>
              <Simulator event={address.event} meaning={meaning.data} standing={standing} onEvent={(event) => go({ event })} />
              <MeaningPane meaning={meaning.data} stale={!current} onLine={(line) => go({ line, view: "text" })} />
            </>
          )}
        </section>
      </div>
      <SavePlan opened={saving} onClose={() => setSaving(false)} standing={standing} text={draft.text} expected={draft.expected} meaning={meaning.data} onSaved={draft.forget} />
    </div>
  );
}

function ProblemCount({ meaning }: { meaning: Meaning | undefined }) {
  if (!meaning) return <span className="soft">reading …</span>;
  const errors = meaning.problems.filter((p) => p.level === "error").length;
  const warnings = meaning.problems.length - errors;
  if (errors + warnings === 0) return <span className="soft">no problems</span>;
  return (
    <span role="status" data-testid="problem-count">
      {errors > 0 && <b className={classes.errors}>{counted(errors, "error")}</b>}
      {errors > 0 && warnings > 0 && ", "}
      {warnings > 0 && <b className={classes.warnings}>{counted(warnings, "warning")}</b>}
    </span>
  );
}

function headline(standing: Standing, changed: boolean, meaning: Meaning | undefined): string {
  if (changed) return `A draft for ${standing.branch}${meaning && !meaning.usable ? ", not usable yet" : ""}, not saved`;
  if (standing.origin === "repository") return `The test plan of ${standing.branch}, as it stands at ${short(standing.commit ?? "")}`;
  if (standing.origin === "server") return "The test plan kept on the server: the repository has none";
  if (standing.misplaced) return standing.misplaced;
  return standing.empty ? "The repository is empty: its first commit can be its test plan" : `${standing.branch} has no test plan yet: take a proposal, or begin with nothing`;
}

function knownOf(words: { tables: Known["tables"]; measures: Known["measures"]; zones: string[]; offers: string[]; pieces: { name: string }[] } | undefined, meaning: Meaning | undefined, standing: Standing): Known | undefined {
  if (!words) return undefined;
  const jobs = (meaning?.document["jobs"] ?? {}) as Record<string, unknown>;
  return { ...words, jobs: Object.keys(jobs), branches: standing.branches, pieces: words.pieces.map((p) => p.name) };
}
