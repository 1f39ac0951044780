import { Button } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { counted, exact } from "../app/words";
import { api, taken, type Flake } from "../api/client";
import { SetAside } from "../findings/SetAside";
import classes from "./tests.module.css";
import { keys } from "../app/queries";

const DOUBT = 0.05;
const SURE = 0.95;
const percent = (value: number) => `${(100 * value).toFixed(1)} %`;

/** Where a share stands on a scale that gives small ones room. */
const along = (share: number) => `${100 * Math.sqrt(share)}%`;

/** What all results together say of chance. */
function said(flake: Flake): string {
  const where = flake.only && `, only ${flake.only.startsWith("from ") ? "" : flake.only.startsWith("runner ") ? "on " : "where "}${flake.only}`;
  const least = `at most ${percent(flake.high)} of them, with 90 % certainty`;
  if (flake.over) return `It was random${where}, and is no more: no failure by chance since in ${counted(flake.tries, "result")}.`;
  if (flake.sure < DOUBT || flake.odd === 0) return `No sign of chance in ${counted(flake.tries, "result")} that bear on it: ${least}.`;
  const since = flake.since === null ? "" : ` since run #${flake.since}`;
  const share = `${flake.odd} of ${counted(flake.tries, "result")} that bear on it${since} failed by chance: ${percent(flake.rate)}, between ${percent(flake.low)} and ${percent(flake.high)} (90 %).`;
  if (flake.flaky) return `Flaky${where}: ${share}`;
  return flake.sure >= SURE ? `Fails by chance, but seldom${where}: ${share}` : `Perhaps flaky${where}, ${Math.floor(100 * flake.sure)} % sure: ${share}`;
}

/** How often a test flakes, with its interval and what the estimate rests on; quarantine from here. */
export function Estimate({ flake, project }: { flake: Flake; project: string }) {
  const [aside, setAside] = useState(false);
  const client = useQueryClient();
  const end = useMutation({
    mutationFn: (id: number) => taken(api.DELETE("/api/v1/projects/{project}/quarantines/{quarantine}", { params: { path: { project, quarantine: id } } })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: keys.flaky(project) });
      void client.invalidateQueries({ queryKey: keys.test(project) });
    },
  });
  const q = flake.quarantine;
  const evidence = [
    [flake.retested, "passed when tried again"],
    [flake.controlled, "answered otherwise by a control run"],
    [flake.alone, "lone failures between passes"],
  ] as const;
  const told = evidence.filter(([n]) => n > 0).map(([n, what]) => `${n} ${what}`);
  return (
    <div>
      <p>
        {said(flake)} {told.length > 0 && `${told.join(", ")}.`}
        {flake.minutes >= 0.1 && ` Repeating it has cost ${flake.minutes.toFixed(1)} min.`}
      </p>
      {flake.odd > 0 && flake.sure >= DOUBT && (
        <div className={classes.scale} aria-hidden>
          <i style={{ left: along(flake.low), right: `calc(100% - ${along(flake.high)})` }} />
          <b style={{ left: along(flake.rate) }} />
          {[0, 0.01, 0.1, 0.5, 1].map((share) => (
            <span key={share} style={{ left: along(share) }}>
              {100 * share} %
            </span>
          ))}
        </div>
      )}
      {q ? (
        <p>
          Quarantined by {q.by} for {q.owner}, until <span title={exact(q.until)}>{q.until.slice(0, 10)}</span>: {q.reason}.{" "}
          <Button size="compact-xs" variant="default" loading={end.isPending} onClick={() => end.mutate(q.id)}>
            Take it back
          </Button>
        </p>
      ) : (
        <p>
          {flake.proposed && "Quarantine is proposed. "}
          <Button size="compact-xs" variant="default" aria-expanded={aside} onClick={() => setAside(!aside)}>
            Quarantine …
          </Button>
        </p>
      )}
      {aside && <SetAside project={project} tests={[{ test: flake.test, title: flake.title }]} onDone={() => setAside(false)} />}
      {end.error && <p>{end.error.message}</p>}
    </div>
  );
}
