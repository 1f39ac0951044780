import { Modal, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useMatch, useNavigate } from "react-router";
import { VerdictMark } from "../marks/StatusMark";
import type { Verdict } from "../marks/shapes";
import classes from "./goto.module.css";
import { projectsQuery, stripQuery, testsQuery } from "./queries";
import { headingAt } from "../tests/tree";
import { short } from "./words";

interface Target {
  id: string;
  kind: string;
  text: string;
  detail: string;
  to: string;
  verdict?: Verdict;
}

export function GoTo({ opened, onClose }: { opened: boolean; onClose: () => void }) {
  return (
    <Modal opened={opened} onClose={onClose} withCloseButton={false} padding={0} size={620} yOffset="12vh">
      <Search onClose={onClose} />
    </Modal>
  );
}

function Search({ onClose }: { onClose: () => void }) {
  const navigate = useNavigate();
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const targets = useTargets(text);
  const chosen = Math.min(at, targets.length - 1);
  const go = (target: Target | undefined) => {
    if (!target) return;
    onClose();
    void navigate(target.to);
  };
  return (
    <div>
      <TextInput
        data-autofocus
        variant="unstyled"
        className={classes.input}
        placeholder="A project, run number, commit, message or test"
        aria-label="Go to"
        value={text}
        onChange={(e) => {
          setText(e.currentTarget.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown") setAt(Math.min(chosen + 1, targets.length - 1));
          else if (e.key === "ArrowUp") setAt(Math.max(chosen - 1, 0));
          else if (e.key === "Enter") go(targets[chosen]);
          else return;
          e.preventDefault();
        }}
      />
      <ul className={classes.list} role="listbox" aria-label="Places">
        {targets.map((target, i) => (
          <li key={target.id} role="option" aria-selected={i === chosen} className={classes.row} onClick={() => go(target)} onMouseMove={() => setAt(i)}>
            {target.verdict ? <VerdictMark verdict={target.verdict} /> : <span style={{ width: 12 }} />}
            <span className={classes.kind}>{target.kind}</span>
            <span className={classes.text}>{target.text}</span>
            <span className={classes.detail}>{target.detail}</span>
          </li>
        ))}
        {targets.length === 0 && <li className={classes.none}>Nothing here is called that.</li>}
      </ul>
    </div>
  );
}

function useTargets(text: string): Target[] {
  const project = useMatch("/p/:project/*")?.params.project;
  const projects = useQuery(projectsQuery).data ?? [];
  const strip = useQuery({ ...stripQuery(project ?? "", undefined), enabled: project !== undefined }).data;
  const wanted = text.trim().toLowerCase().replace(/^#/, "");
  const newest = strip?.columns.at(-1)?.run.number;
  const [typed] = useDebouncedValue(wanted, 250);
  const asked = project !== undefined && newest !== undefined && typed.length > 2;
  const tests = useQuery({ ...testsQuery(project ?? "", newest ?? 0, { base: undefined, state: "all", search: typed, slower: undefined, cells: [] }, 0, 6), enabled: asked }).data;
  const found: Target[] = [{ id: "desk", kind: "page", text: "Desk", detail: "what needs a decision now", to: "/" }];
  for (const p of projects)
    found.push({ id: `p/${p.name}`, kind: "project", text: p.name, detail: p.description, to: `/p/${p.name}`, verdict: p.newest?.word });
  for (const { run } of [...(strip?.columns ?? [])].reverse())
    found.push({
      id: `r/${run.number}`,
      kind: `#${run.number}`,
      text: run.title,
      detail: `${short(run.commit)} ${run.author}`,
      to: `/p/${project ?? ""}/runs/${run.number}`,
      verdict: run.word,
    });
  const fitting = found.filter((t) => !wanted || `${t.kind} ${t.text} ${t.detail}`.toLowerCase().includes(wanted)).slice(0, 12);
  const offered = asked && wanted === typed ? (tests?.rows ?? []) : [];
  return [
    ...fitting.slice(0, 12 - offered.length),
    ...offered.map((t, i) => ({ id: `t/${t.test}`, kind: "test", text: t.name, detail: headingAt(tests?.headings ?? [], i), to: `/p/${project ?? ""}/tests/${t.test}` })),
  ];
}
