import { Button } from "@mantine/core";
import { useEffect, useState, type ReactNode } from "react";
import { CallError } from "../api/client";
import classes from "./frame.module.css";

/** What stands where something loads: nothing for a moment, then its outline, then words. */
export function Loading({ what, rows = 4 }: { what: string; rows?: number }) {
  const [waited, setWaited] = useState(0);
  useEffect(() => {
    const timers = [200, 2000].map((ms) => setTimeout(() => setWaited(ms), ms));
    return () => timers.forEach(clearTimeout);
  }, []);
  return (
    <div className={classes.loading} aria-busy="true" role="status" aria-label={`${what} loads`} data-testid="loading">
      {waited >= 200 && Array.from({ length: rows }, (_, i) => <i key={i} style={{ width: `${88 - ((i * 23) % 50)}%` }} />)}
      {waited >= 2000 && <p className="soft">{what} still loads. The server answers slowly, or is busy with something large.</p>}
    </div>
  );
}

/** What could not be loaded, in its place, with a way to try again. */
export function Trouble({ what, error, onAgain }: { what: string; error: Error; onAgain: () => void }) {
  const mend = error instanceof CallError ? error.mend : "";
  return (
    <div className={classes.trouble} role="alert">
      <b>{what} cannot be shown.</b> {error.message}
      {mend && ` — ${mend}`}{" "}
      <Button size="compact-xs" variant="default" onClick={onAgain}>
        Try again
      </Button>
    </div>
  );
}

interface Asked<T> {
  data: T | undefined;
  error: Error | null;
  refetch: () => unknown;
}

/** A part of a page that asks the server: its outline, its trouble, or itself. What was there stays while it loads anew. */
export function Awaited<T>({ of, what, rows, children }: { of: Asked<T>; what: string; rows?: number; children: (data: T) => ReactNode }) {
  if (of.data !== undefined) return children(of.data);
  if (of.error) return <Trouble what={what} error={of.error} onAgain={() => void of.refetch()} />;
  return <Loading what={what} {...(rows === undefined ? {} : { rows })} />;
}
