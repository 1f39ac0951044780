import "@mantine/core/styles/Overlay.css";
import "@mantine/core/styles/ModalBase.css";
import "@mantine/core/styles/Modal.css";
import { Modal, TextInput, useComputedColorScheme, useMantineColorScheme } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useMatch, useNavigate } from "react-router";
import { VerdictMark } from "../marks/StatusMark";
import type { Verdict } from "../marks/shapes";
import { headingAt } from "../tests/tree";
import { pagesOf } from "./Frame";
import classes from "./goto.module.css";
import { filesQuery, projectsQuery, runnersQuery, stripQuery, testsQuery } from "./queries";
import { short } from "./words";

interface Target {
  id: string;
  kind: string;
  text: string;
  detail: string;
  to?: string;
  act?: () => void;
  verdict?: Verdict;
}

const MOST = 14;

export function GoTo({ opened, onClose, onHelp }: { opened: boolean; onClose: () => void; onHelp: () => void }) {
  return (
    <Modal opened={opened} onClose={onClose} withCloseButton={false} padding={0} size={620} yOffset="12vh" shadow="none">
      <Search onClose={onClose} onHelp={onHelp} />
    </Modal>
  );
}

function Search({ onClose, onHelp }: { onClose: () => void; onHelp: () => void }) {
  const navigate = useNavigate();
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const { targets, searching } = useTargets(text, onHelp);
  const chosen = Math.min(at, targets.length - 1);
  const go = (target: Target | undefined) => {
    if (!target) return;
    onClose();
    target.act?.();
    if (target.to) void navigate(target.to);
  };
  return (
    <div>
      <TextInput
        data-autofocus
        variant="unstyled"
        className={classes.input}
        placeholder="A project, run, commit, branch, test, file, runner or command"
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
        {targets.length === 0 && <li className={classes.none}>{searching ? "Looking …" : "Nothing here is called that."}</li>}
      </ul>
    </div>
  );
}

/** What is called exactly as the text comes first: #87 is run 87, whatever else holds an 87. */
const isExact = (t: Target, wanted: string) => wanted !== "" && (t.text.toLowerCase() === wanted || t.kind === `#${wanted}`);

/** What fits the text: of each kind the best few, so that one kind does not push out the others. */
export function offered(found: Target[][], wanted: string, most = MOST): Target[] {
  const exact = found.flatMap((kind) => kind.filter((t) => isExact(t, wanted)));
  const others = fitted(found.map((kind) => kind.filter((t) => !isExact(t, wanted))), wanted, most - exact.length);
  return [...exact, ...others];
}

function fitted(found: Target[][], wanted: string, most: number): Target[] {
  const fitting = found.map((kind) => kind.filter((t) => !wanted || `${t.kind} ${t.text} ${t.detail}`.toLowerCase().includes(wanted)));
  const share = Math.max(2, Math.floor(most / Math.max(1, fitting.filter((k) => k.length > 0).length)));
  const first = fitting.map((kind) => kind.slice(0, share));
  let left = most - first.reduce((n, kind) => n + kind.length, 0);
  return fitting.flatMap((kind, i) => {
    const more = kind.slice(share, share + Math.max(0, left));
    left -= more.length;
    return [...(first[i] ?? []), ...more];
  });
}

function useTargets(text: string, onHelp: () => void): { targets: Target[]; searching: boolean } {
  const project = useMatch("/p/:project/*")?.params.project;
  const { setColorScheme } = useMantineColorScheme();
  const scheme = useComputedColorScheme("light");
  const projects = useQuery(projectsQuery).data ?? [];
  const strip = useQuery({ ...stripQuery(project ?? "", undefined), enabled: project !== undefined }).data;
  const wanted = text.trim().toLowerCase().replace(/^#/, "");
  const newest = strip?.columns.at(-1)?.run;
  const [typed] = useDebouncedValue(wanted, 250);
  const asked = project !== undefined && newest !== undefined && typed.length > 2;
  const tests = useQuery({ ...testsQuery(project ?? "", newest?.number ?? 0, { base: undefined, state: "all", search: typed, slower: undefined, cells: [] }, 0, 6), enabled: asked });
  const files = useQuery({ ...filesQuery(project ?? "", newest?.commit ?? "", typed), enabled: asked });
  const runners = useQuery({ ...runnersQuery, enabled: wanted.length > 1 }).data ?? [];
  const here = `/p/${project ?? ""}`;
  const pages: Target[] = [
    { id: "desk", kind: "page", text: "Desk", detail: "what needs a decision now", to: "/" },
    ...pagesOf(project).map((page) => ({ id: page.to, kind: "page", text: page.title, detail: project ?? "", to: page.to })),
    { id: "runners", kind: "page", text: "Runners", detail: "and what waits for them", to: "/runners" },
    { id: "theme", kind: "command", text: `${scheme === "dark" ? "Light" : "Dark"} theme`, detail: "", act: () => setColorScheme(scheme === "dark" ? "light" : "dark") },
    { id: "help", kind: "command", text: "Marks and keys", detail: "?", act: onHelp },
    { id: "add", kind: "command", text: "Watch another repository", detail: "", to: "/add" },
  ];
  const runs = [...(strip?.columns ?? [])].reverse().map(({ run }) => ({
    id: `r/${run.number}`, kind: `#${run.number}`, text: run.title, detail: `${short(run.commit)} ${run.author}`, to: `${here}/runs/${run.number}`, verdict: run.word,
  })); // prettier-ignore
  if (project && /^\d+$/.test(wanted) && !runs.some((r) => r.kind === `#${wanted}`)) runs.unshift({ id: `any/${wanted}`, kind: `#${wanted}`, text: "this run, if there is one", detail: "", to: `${here}/runs/${wanted}`, verdict: "none" });
  const found: Target[][] = [
    projects.map((p) => ({ id: `p/${p.name}`, kind: "project", text: p.name, detail: p.description, to: `/p/${p.name}`, ...(p.newest ? { verdict: p.newest.word } : {}) })),
    runs,
    wanted ? (strip?.branches ?? []).map((b) => ({ id: `b/${b}`, kind: "branch", text: b, detail: "", to: `${here}?branch=${encodeURIComponent(b)}` })) : [],
    pages,
    runners.map((r) => ({ id: `m/${r.name}`, kind: "runner", text: r.name, detail: "", to: "/runners" })),
  ];
  const current = asked && wanted === typed;
  const searched: Target[][] = current
    ? [
        (tests.data?.rows ?? []).map((t, i) => ({ id: `t/${t.test}`, kind: "test", text: t.name, detail: headingAt(tests.data?.headings ?? [], i), to: `${here}/tests/${t.test}` })),
        (files.data ?? []).slice(0, 6).map((path) => ({ id: `f/${path}`, kind: "file", text: path, detail: "", to: `${here}/runs/${newest.number}?section=coverage&file=${encodeURIComponent(path)}` })),
      ]
    : [];
  const best = offered(found, wanted, searched.length ? MOST - Math.min(8, searched.flat().length) : MOST);
  return { targets: [...best, ...searched.flat().slice(0, MOST - best.length)], searching: project !== undefined && wanted.length > 2 && (!current || tests.isFetching || files.isFetching) };
}
