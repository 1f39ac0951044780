import { Menu, TextInput } from "@mantine/core";
import { useState } from "react";
import { VerdictMark } from "../marks/StatusMark";
import type { StripData } from "../strip/useStrip";

interface Props {
  strip: StripData;
  selected: number | undefined;
  base: number | undefined;
  onBase: (run: number) => void;
}

/** Read the run against another one: of this strip by name, or any by its number. */
export function Beside({ strip, selected, base, onBase }: Props) {
  const [text, setText] = useState("");
  const wanted = text.trim().toLowerCase().replace(/^#/, "");
  const runs = [...strip.columns].reverse().map((c) => c.run);
  const fitting = runs.filter((r) => r.number !== selected && `${r.number} ${r.title} ${r.commit} ${r.author}`.toLowerCase().includes(wanted)).slice(0, 14);
  const other = /^\d+$/.test(wanted) && Number(wanted) > 0 && !runs.some((r) => r.number === Number(wanted)) ? Number(wanted) : undefined;
  return (
    <Menu position="bottom-start" width={420} shadow="none" withinPortal onClose={() => setText("")}>
      <Menu.Target>
        <button type="button" className="plain">
          Compare with…
        </button>
      </Menu.Target>
      <Menu.Dropdown>
        <TextInput size="xs" m={4} data-autofocus placeholder="A run of this strip, or any run by its number" aria-label="Compare with" value={text} onChange={(e) => setText(e.currentTarget.value)} />
        {fitting.map((run) => (
          <Menu.Item key={run.number} leftSection={<VerdictMark verdict={run.word} />} fw={run.number === base ? 650 : 400} onClick={() => onBase(run.number)}>
            #{run.number} {run.title}
          </Menu.Item>
        ))}
        {other !== undefined && <Menu.Item onClick={() => onBase(other)}>Run #{other}, of another strip</Menu.Item>}
        {fitting.length === 0 && other === undefined && <Menu.Item disabled>no run of this strip is called that</Menu.Item>}
      </Menu.Dropdown>
    </Menu>
  );
}
