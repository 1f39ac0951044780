import { useClipboard } from "@mantine/hooks";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, taken, type Cell, type Run } from "../api/client";
import { useAddress } from "../app/address";
import { Drop } from "../app/Drop";
import { useTellMe } from "../app/tab";
import { counted } from "../app/words";
import classes from "./run.module.css";
import { keys } from "../app/queries";

/** A selector that names exactly these cells. */
export function selectorOf(cells: Pick<Cell, "job" | "values">[]): string {
  return cells.map((c) => [`job=${c.job}`, ...Object.entries(c.values).map(([k, v]) => `${k}=${v}`)].join(",")).join(";");
}

/** Run again, stop, copy as text. */
export function Actions({ run }: { run: Run }) {
  const [address] = useAddress();
  const client = useQueryClient();
  const tellMe = useTellMe(run);
  const clipboard = useClipboard();
  const chosen = run.cells.filter((c) => address.cells.includes(`${c.job}/${c.key}`));
  const failing = run.cells.filter((c) => c.selected && !c.gated && c.state !== "passed");
  const open = run.cells.some((c) => c.state === "running" || c.state === "waiting");
  const again = useMutation({
    mutationFn: (wish: { which: string; cells: string }) =>
      taken(api.POST("/api/v1/projects/{project}/runs/{number}/again", { params: { path: { project: run.project, number: run.run.number } }, body: wish })),
    onSettled: async () => {
      await client.invalidateQueries({ queryKey: keys.strip(run.project) });
      await client.invalidateQueries({ queryKey: keys.run(run.project, run.run.number) });
    },
  });
  const stop = useMutation({
    mutationFn: () => taken(api.POST("/api/v1/projects/{project}/runs/{number}/stop", { params: { path: { project: run.project, number: run.run.number } } })),
    onSettled: () => client.invalidateQueries({ queryKey: keys.run(run.project, run.run.number) }),
  });
  const error = again.error ?? stop.error;
  return (
    <>
      <Drop
        width={230}
        target={
          <button type="button" className={`plain ${classes.action ?? ""}`} disabled={again.isPending}>
            Run again
          </button>
        }
        entries={[
          { title: "All of it", onChoose: () => again.mutate({ which: "all", cells: "" }) },
          { title: `Only what did not pass (${counted(failing.length, "cell")})`, disabled: failing.length === 0, onChoose: () => again.mutate({ which: "not-passed", cells: "" }) },
          { title: `The chosen cells (${chosen.length})`, disabled: chosen.length === 0, onChoose: () => again.mutate({ which: "chosen", cells: selectorOf(chosen) }) },
        ]}
      />
      {open && (
        <button type="button" className={`plain ${classes.action ?? ""}`} disabled={stop.isPending} onClick={() => stop.mutate()}>
          Stop
        </button>
      )}
      {open && tellMe && (
        <button type="button" className={`plain ${classes.action ?? ""}`} aria-pressed={tellMe.on} onClick={tellMe.toggle}>
          {tellMe.on ? "You are told when it ends" : "Tell me"}
        </button>
      )}
      <button type="button" className={`plain ${classes.action ?? ""}`} onClick={() => clipboard.copy(`${run.run.sentence}\n${window.location.origin}/p/${run.project}/runs/${run.run.number}`)}>
        {clipboard.copied ? "Copied" : "Copy as text"}
      </button>
      {error && <span role="alert">{error.message}</span>}
    </>
  );
}
