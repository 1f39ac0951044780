import { TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { Difference, FileChange, Run } from "../api/client";
import { useAddress, written } from "../app/address";
import { Awaited } from "../app/Awaited";
import { coverageQuery, differenceOfRunQuery, findingsQuery } from "../app/queries";
import { counted, exact, short } from "../app/words";
import { StatusMark } from "../marks/StatusMark";
import { markNamed } from "../marks/shapes";
import classes from "./change.module.css";
import { marksOf, type LineMarks } from "./marked";

const OPEN_AT_FIRST = 400; // lines that stand open without being asked for

/** What lies between the baseline and the tested commit, with the lines that failures name and those that nothing ran. */
export function Change({ run }: { run: Run }) {
  const [address] = useAddress();
  const found = useQuery(differenceOfRunQuery(run.project, run.run.number, address.base));
  return <Awaited of={found} what="The change">{(data) => <Whole run={run} data={data} />}</Awaited>;
}

function Whole({ run, data }: { run: Run; data: Difference }) {
  const [address] = useAddress();
  const [text, setText] = useState("");
  const findings = useQuery(findingsQuery(run.project, run.run.number, address.base)).data?.findings ?? [];
  const coverage = useQuery({ ...coverageQuery(run.project, run.run.number, ""), enabled: run.coverage !== null }).data;
  const marks = marksOf(findings, coverage);
  const files = data.files.filter((f) => f.path.toLowerCase().includes(text.toLowerCase()));
  const [added, removed] = [data.files.reduce((n, f) => n + f.added, 0), data.files.reduce((n, f) => n + f.removed, 0)];
  return (
    <>
      <p className={classes.intro}>
        {counted(data.files.length + data.more, "file")} changed since {data.baseline ? <>#{data.baseline.number}, </> : "the commit before, "}
        <span className="mono">{short(data.before)}</span>: {counted(added, "line")} added, {removed.toLocaleString("en")} removed.
      </p>
      <ul className={classes.commits} aria-label="Commits">
        {data.commits.map((c) => (
          <li key={c.id}>
            <span className="mono soft">{short(c.id)}</span> <b>{c.title}</b>{" "}
            <span className="soft" title={exact(c.at)}>
              {c.author}
            </span>
          </li>
        ))}
      </ul>
      {data.files.length > 6 && <TextInput size="xs" w={260} placeholder="Only files with…" aria-label="Filter files" value={text} onChange={(e) => setText(e.currentTarget.value)} mb={8} />}
      {files.map((file, i) => (
        <OneFile key={file.path} run={run} file={file} marks={marks.get(file.path)} first={sum(files.slice(0, i + 1)) <= OPEN_AT_FIRST} />
      ))}
      {files.length === 0 && <p className="soft">{data.files.length === 0 ? "No file differs." : "No changed file has that in its path."}</p>}
      {data.more > 0 && <p className="soft">{counted(data.more, "more file")} {data.more === 1 ? "is" : "are"} not listed.</p>}
    </>
  );
}

const sum = (files: FileChange[]) => files.slice(0, OPEN_AT_FIRST).reduce((n, f) => n + f.added + f.removed, 0);

function OneFile({ run, file, marks, first }: { run: Run; file: FileChange; marks: LineMarks | undefined; first: boolean }) {
  const [address] = useAddress();
  const failing = [...(marks?.failing.values() ?? [])];
  const [open, setOpen] = useState<boolean>();
  const opened = open ?? (first || failing.length > 0);
  const bare = marks?.bare.size ?? 0;
  return (
    <article className={classes.file}>
      <header>
        <button type="button" className="plain mono" aria-expanded={opened} onClick={() => setOpen(!opened)}>
          {file.before && <span className="soft">{file.before} → </span>}
          {file.path}
        </button>
        <span className="soft tabular">
          {file.binary ? "no text" : `+${file.added} −${file.removed}`}
          {bare > 0 && <span className={classes.bareCount}> · {counted(bare, "changed line")} that nothing ran</span>}
        </span>
        {[...new Map(failing.map((f) => [f.id, f])).values()].slice(0, 3).map((f) => (
          <Link key={f.id} to={written({ ...address, section: "findings", finding: f.id })} className={classes.named}>
            <StatusMark mark={markNamed(f.mark)} size={10} /> {f.title}
          </Link>
        ))}
      </header>
      {opened && file.cut && <p className="soft">Its lines are too many to be shown here; fetch {short(run.tested)} to look at them.</p>}
      {opened && file.parts.length > 0 && <Lines file={file} marks={marks} />}
    </article>
  );
}

function Lines({ file, marks }: { file: FileChange; marks: LineMarks | undefined }) {
  return (
    <div className={classes.lines} tabIndex={0} role="region" aria-label={`Changed lines of ${file.path}`}>
      {file.parts.map((part, i) => (
        <div key={i} className={classes.part}>
          {part.within && <div className={classes.within}>{part.within}</div>}
          {part.lines.map((line, j) => {
            const failing = line.now === null ? undefined : marks?.failing.get(line.now);
            const bare = line.now !== null && line.before === null && marks?.bare.has(line.now);
            return (
              <div key={j} className={classes.line} data-kind={line.before === null ? "added" : line.now === null ? "removed" : "kept"} data-failing={failing !== undefined} data-bare={bare === true}>
                <i>{line.before ?? ""}</i>
                <i>{line.now ?? ""}</i>
                <span aria-hidden="true">{line.before === null ? "+" : line.now === null ? "−" : " "}</span>
                <code>{line.text || " "}</code>
                {(failing ?? bare) && <em>{failing ? `named by ${failing.title}` : "nothing ran it"}</em>}
              </div>
            );
          })}
        </div>
      ))}
    </div>
  );
}
