import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { testsQuery, type TestsWanted } from "../app/queries";
import { counted } from "../app/words";
import type { Run } from "../api/client";
import { SetAside } from "../findings/SetAside";
import classes from "./tests.module.css";

/** Tests that were chosen in the list, by number, with their names. */
export type Chosen = ReadonlyMap<number, string>;

const MOST = 500; // that the server tells in one go

interface Props {
  run: Run;
  wanted: TestsWanted;
  shown: number;
  chosen: Chosen;
  onChosen: (chosen: Chosen) => void;
}

/** Many tests at once: those that were ticked, or all that are shown, go into quarantine with one reason and end. */
export function Aside({ run, wanted, shown, chosen, onChosen }: Props) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const all = useMutation({
    mutationFn: async () => {
      const page = await client.query(testsQuery(run.project, run.run.number, wanted, 0, MOST));
      return new Map(page.rows.map((row) => [row.test, row.name]));
    },
    onSuccess: onChosen,
  });
  return (
    <div className={classes.chosen} role="group" aria-label="Chosen tests">
      {chosen.size > 0 ? (
        <>
          <span role="status">{counted(chosen.size, "test")} chosen</span>
          <button type="button" className="plain" aria-expanded={open} onClick={() => setOpen(!open)}>
            Quarantine …
          </button>
          <button type="button" className="plain" onClick={() => onChosen(new Map())}>
            Choose none
          </button>
        </>
      ) : (
        shown <= MOST && (
          <button type="button" className="plain" disabled={all.isPending} onClick={() => all.mutate()}>
            Choose all that are shown
          </button>
        )
      )}
      {all.error && <span role="alert">{all.error.message}</span>}
      {open && chosen.size > 0 && (
        <SetAside
          project={run.project}
          tests={[...chosen].map(([test, title]) => ({ test, title }))}
          onDone={() => {
            setOpen(false);
            onChosen(new Map());
          }}
        />
      )}
    </div>
  );
}
