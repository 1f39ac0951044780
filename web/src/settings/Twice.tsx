import { useState, type ReactNode } from "react";
import classes from "./settings.module.css";

/** A button that asks once more, and says what will be lost. */
export function Twice({ what, lost, onDo, children }: { what: string; lost: string; onDo: () => void; children: ReactNode }) {
  const [asked, setAsked] = useState(false);
  if (!asked) {
    return (
      <button type="button" className={`plain ${classes.action ?? ""}`} aria-label={what} onClick={() => setAsked(true)}>
        {children}
      </button>
    );
  }
  return (
    <span role="alert">
      {what}? Then {lost}.{" "}
      <button type="button" className={`plain ${classes.trouble ?? ""}`} onClick={onDo}>
        Yes
      </button>{" "}
      <button type="button" className={`plain ${classes.action ?? ""}`} onClick={() => setAsked(false)}>
        No
      </button>
    </span>
  );
}
