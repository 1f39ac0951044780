import { useQuery } from "@tanstack/react-query";
import { fileQuery } from "../app/queries";
import { Gutter } from "./Gutter";
import { ranges, type LineMark } from "./shapes";
import classes from "./coverage.module.css";

const AROUND = 2;
const MOST = 6;

interface Props {
  project: string;
  commit: string;
  path: string;
  bare: number[];
  partly: number[];
  onOpen: (line: number) => void;
}

/** The lines of a file that nothing ran, each with a little of what stands around it. */
export function Excerpts({ project, commit, path, bare, partly, onOpen }: Props) {
  const file = useQuery(fileQuery(project, commit, path));
  if (file.error) return <p className="soft">{file.error.message}</p>;
  if (!file.data) return <p className="soft">Reading {path} …</p>;
  const text = file.data.text.split("\n");
  const marks = new Map<number, LineMark>([...partly.map((n) => [n, "partly"] as const), ...bare.map((n) => [n, "bare"] as const)]);
  const parts = ranges([...marks.keys()].sort((a, b) => a - b), AROUND * 2 + 1);
  return (
    <div className={classes.excerpts}>
      {parts.slice(0, MOST).map(({ first, last }) => (
        <pre key={first} tabIndex={0} aria-label={`${path}, around line ${first}`}>
          {text.slice(Math.max(0, first - 1 - AROUND), last + AROUND).map((line, i) => {
            const number = Math.max(1, first - AROUND) + i;
            return (
              <span key={number} className={marks.has(number) ? classes.named : undefined}>
                <Gutter mark={marks.get(number) ?? "none"} />
                <i>{number}</i>
                {line}
                {"\n"}
              </span>
            );
          })}
        </pre>
      ))}
      {parts.length > MOST && (
        <button type="button" className="plain" onClick={() => onOpen(parts[MOST]?.first ?? 1)}>
          {parts.length - MOST} more places in this file
        </button>
      )}
    </div>
  );
}
