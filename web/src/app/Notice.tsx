import type { ReactNode } from "react";
import classes from "./frame.module.css";

/** Why a view is empty, or what went wrong, and what to do next. */
export function Notice({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className={classes.notice} role="status">
      <h2>{title}</h2>
      <p>{children}</p>
    </div>
  );
}
