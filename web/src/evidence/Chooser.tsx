import { Menu, TextInput } from "@mantine/core";
import { useState } from "react";
import type { Cell, Run } from "../api/client";
import { counted } from "../app/words";
import { StatusMark } from "../marks/StatusMark";
import { markNamed, markNames, type Mark } from "../marks/shapes";
import classes from "./evidence.module.css";

const order: Mark[] = ["new", "came-back", "first", "void", "known", "flaky", "quarantined", "running", "waiting", "stopped", "fixed", "passed", "skipped", "not-selected"];

/** Cells by their mark, those that tell most first; within a mark in the plan's order. */
export function byMark(cells: Cell[]): { mark: Mark; cells: Cell[] }[] {
  const groups = new Map<Mark, Cell[]>();
  for (const cell of cells) {
    const mark = markNamed(cell.mark);
    groups.set(mark, [...(groups.get(mark) ?? []), cell]);
  }
  const rank = (mark: Mark) => (order.includes(mark) ? order.indexOf(mark) : order.length);
  return [...groups].map(([mark, of]) => ({ mark, cells: of })).sort((a, b) => rank(a.mark) - rank(b.mark));
}

export const titleOf = (cell: Pick<Cell, "job" | "values">) => [cell.job, ...Object.entries(cell.values).map(([k, v]) => `${k} ${v}`)].join(" · ");

/** One line to choose a cell: by name, by mark, or the next and the previous one. */
export function Chooser({ run, chosen, onChoose }: { run: Run; chosen: Cell; onChoose: (cell: Cell) => void }) {
  const [text, setText] = useState("");
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const fitting = run.cells.filter((c) => words.every((w) => `${titleOf(c)} ${c.key} ${c.state}`.toLowerCase().includes(w)));
  const groups = byMark(fitting);
  const line = byMark(run.cells).flatMap((g) => g.cells);
  const at = line.findIndex((c) => c.id === chosen.id);
  const step = (by: number) => {
    const target = line[(at + by + line.length) % line.length];
    if (target) onChoose(target);
  };
  return (
    <div className={classes.chooser} role="group" aria-label="Cell">
      <button type="button" className="plain" onClick={() => step(-1)} aria-label="Previous cell" disabled={line.length < 2}>
        ‹
      </button>
      <Menu position="bottom-start" width="min(460px, 94vw)" shadow="none" onClose={() => setText("")}>
        <Menu.Target>
          <button type="button" className={`plain ${classes.chosen ?? ""}`} aria-label={`Cell: ${titleOf(chosen)}, ${chosen.state}`}>
            <StatusMark mark={markNamed(chosen.mark)} size={12} advisory={chosen.advisory} />
            <span>{titleOf(chosen)}</span>
          </button>
        </Menu.Target>
        <Menu.Dropdown className={classes.choices}>
          <TextInput size="xs" m={4} data-autofocus placeholder="Words of its job, values or state" aria-label="Filter cells" value={text} onChange={(e) => setText(e.currentTarget.value)} />
          {groups.map(({ mark, cells }) => (
            <div key={mark} role="group" aria-label={markNames[mark]}>
              <Menu.Label>
                {markNames[mark]}, {counted(cells.length, "cell")}
              </Menu.Label>
              {cells.slice(0, 200).map((cell) => (
                <Menu.Item key={cell.id} leftSection={<StatusMark mark={mark} size={11} advisory={cell.advisory} label="" />} fw={cell.id === chosen.id ? 650 : 400} aria-label={`${cell.job} ${cell.key}: ${cell.state}`} onClick={() => onChoose(cell)}>
                  {titleOf(cell)}
                </Menu.Item>
              ))}
            </div>
          ))}
          {groups.length === 0 && <Menu.Item disabled>no cell has that</Menu.Item>}
        </Menu.Dropdown>
      </Menu>
      <button type="button" className="plain" onClick={() => step(1)} aria-label="Next cell" disabled={line.length < 2}>
        ›
      </button>
      <span className="soft tabular">
        {at + 1} of {line.length}
      </span>
    </div>
  );
}
