import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { fileQuery } from "../app/queries";
import classes from "./findings.module.css";

const AROUND = 7;

/** Some lines of a file at a commit, around the one that is named. */
export function SourceAt({ project, commit, path, line }: { project: string; commit: string; path: string; line: number }) {
  const file = useQuery(fileQuery(project, commit, path));
  const [around, setAround] = useState(AROUND);
  if (file.error) return <p className="soft">{file.error.message}</p>;
  if (!file.data) return <p className="soft">Reading {path} …</p>;
  const lines = file.data.text.split("\n");
  const first = Math.max(1, line - around);
  const last = Math.min(lines.length, line + around);
  return (
    <figure className={classes.source}>
      <figcaption>
        {path} at {commit.slice(0, 7)}
        {(first > 1 || last < lines.length) && (
          <button type="button" className="plain" onClick={() => setAround(around * 4)}>
            more lines
          </button>
        )}
      </figcaption>
      <pre tabIndex={0} aria-label={`${path}, lines ${first} to ${last}`}>
        {lines.slice(first - 1, last).map((text, i) => (
          <span key={i} className={first + i === line ? classes.named : undefined}>
            <i>{first + i}</i>
            {text}
            {"\n"}
          </span>
        ))}
      </pre>
    </figure>
  );
}
