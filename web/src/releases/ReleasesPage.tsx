import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, taken, type ReleaseCard, type Target } from "../api/client";
import { Awaited } from "../app/Awaited";
import { keys, releasesQuery } from "../app/queries";
import { useNow } from "../app/useNow";
import { ago, counted, exact, short, size } from "../app/words";
import { StatusMark, VerdictMark } from "../marks/StatusMark";
import type { Mark } from "../marks/shapes";
import classes from "./releases.module.css";

/** What lies behind the verdict: what is live, and a card for each run that could be released. */
export function ReleasesPage() {
  const { project = "" } = useParams();
  const found = useQuery(releasesQuery(project));
  const now = useNow();
  return (
    <div className={classes.page}>
      <Awaited of={found} what="The releases" rows={6}>
        {(data) => (
          <>
            <h1>{data.said}</h1>
            {data.cards.length === 0 && (
              <p className="soft">
                A job with <code>gated = true</code> runs only when everything before it is clear; with <code>approval</code> it waits for a person besides. <Link to={`/p/${project}/plan`}>The plan</Link> says which there are.
              </p>
            )}
            {data.cards.map((card) => (
              <Card key={card.run.number} project={project} card={card} now={now} />
            ))}
          </>
        )}
      </Awaited>
    </div>
  );
}

export function Card({ project, card, now }: { project: string; card: ReleaseCard; now: number }) {
  const at = `/p/${encodeURIComponent(project)}/runs/${card.run.number}`;
  return (
    <section className={classes.card} aria-label={`Release ${card.version}`}>
      <header>
        <VerdictMark verdict={card.run.verdict} size={15} />
        <h2>
          {card.version} <Link to={at}>#{card.run.number}</Link>
        </h2>
        <span>{card.run.title}</span>
        <span className="soft">
          {card.run.author}, <span title={exact(card.run.at)}>{ago(card.run.at, now)}</span>, <span className="mono">{short(card.run.commit)}</span>
        </span>
      </header>
      <p className={classes.said}>{card.run.sentence}</p>
      <ul className={classes.targets}>
        {card.targets.map((target) => (
          <OneTarget key={`${target.job}/${target.title}`} project={project} card={card} target={target} now={now} />
        ))}
      </ul>
      {card.made.length > 0 && (
        <details>
          <summary>{counted(card.made.length, "artifact")}</summary>
          {card.may_release && (
            <p className={classes.said}>
              With <a href={`/api/v1/projects/${encodeURIComponent(project)}/runs/${card.run.number}/attestation`}>a signed statement</a> of what they were made from.
            </p>
          )}
          <ul className={classes.made}>
            {card.made.map((m) => (
              <li key={`${m.job}/${m.key}/${m.path}`}>
                {m.report === null ? m.path : <a href={`/api/v1/reports/${m.report}/raw`}>{m.path}</a>} {size(m.size)}{" "}
                <span className="soft">
                  of {m.job} {m.key} <span className="mono">sha256 {m.digest.slice(0, 16)}…</span>
                  {m.report === null && ", kept no more"}
                </span>
              </li>
            ))}
          </ul>
        </details>
      )}
      {card.notes.length > 0 && (
        <details>
          <summary>{counted(card.notes.length + card.more_notes, "commit")} since the card before</summary>
          <ul className={classes.made}>
            {card.notes.map((note, i) => (
              <li key={i}>{note}</li>
            ))}
          </ul>
        </details>
      )}
    </section>
  );
}

function OneTarget({ project, card, target: t, now }: { project: string; card: ReleaseCard; target: Target; now: number }) {
  const client = useQueryClient();
  const again = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/projects/{project}/runs/{number}/again", { params: { path: { project, number: card.run.number } }, body: { which: "chosen", cells: `job=${t.job}` } })),
    onSettled: () => client.invalidateQueries({ queryKey: keys.releases(project) }),
  });
  return (
    <li>
      <StatusMark mark={markOf(t.state)} size={12} />
      <span>
        <b>{t.title}</b> {t.live ? "is live" : stateSaid(t)}
        {t.at && <span className="soft" title={exact(t.at)}>{`, ${ago(t.at, now)}`}</span>}
        {t.approval === "given" && <span className="soft">; approved by {t.by}{t.because && `: “${t.because}”`}</span>}
        {t.approval === "refused" && <span>; {t.by} did not approve{t.because && `: “${t.because}”`}</span>}
        {t.proof.length > 0 && <Proof of={t} />}
        {t.approval === "waiting" && (
          <>
            : <Link to={`/p/${encodeURIComponent(project)}/runs/${card.run.number}`}>give or refuse it</Link>
          </>
        )}
      </span>
      {card.may_release && !t.live && ["passed", "failed", "void", "stopped"].includes(t.state) && (
        <Button size="compact-xs" variant="default" loading={again.isPending} onClick={() => again.mutate()} title="What was made and tested then is brought out again">
          {t.state === "passed" ? "Bring it back" : "Try it again"}
        </Button>
      )}
      {again.error && <span role="alert">{again.error.message}</span>}
    </li>
  );
}

/** Whether what was made was found where it was brought, by its digest. */
function Proof({ of: t }: { of: Target }) {
  const missing = t.proof.filter((p) => !p.found);
  const said = missing.length === 0 ? `; found there by ${t.proof.length === 1 ? "its digest" : "their digests"}: ` : "; not found there: ";
  const rows = missing.length === 0 ? t.proof : missing;
  return (
    <span className={missing.length === 0 ? classes.proven : classes.unproven}>
      {said}
      {rows.slice(0, 3).map((p, i) => (
        <span key={p.path} title={`sha256 ${p.digest}`}>
          {i > 0 && ", "}
          {p.path} <span className="mono">{p.digest.slice(0, 12)}…</span>
        </span>
      ))}
      {rows.length > 3 && ` and ${rows.length - 3} more`}
    </span>
  );
}

const markOf = (state: string): Mark => (state === "failed" ? "new" : state === "reading" ? "running" : (state as Mark));

function stateSaid(t: Target): string {
  switch (t.state) {
    case "passed":
      return "was brought out";
    case "failed":
      return "failed";
    case "running":
      return "goes on";
    default:
      return t.reason || t.state;
  }
}
