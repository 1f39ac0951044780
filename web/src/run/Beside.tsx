import { useDebouncedValue } from "@mantine/hooks";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Drop } from "../app/Drop";
import { pastQuery, stripQuery } from "../app/queries";
import { VerdictMark } from "../marks/StatusMark";
import type { StripData } from "../strip/useStrip";

interface Props {
  project: string;
  strip: StripData;
  selected: number | undefined;
  base: number | undefined;
  onBase: (run: number) => void;
}

/** Read the run against another one: of this strip or any other, by what it is called, or the newest of a branch or tag. */
export function Beside({ project, strip, selected, base, onBase }: Props) {
  const client = useQueryClient();
  const [text, setText] = useState("");
  const wanted = text.trim().toLowerCase().replace(/^#/, "");
  const runs = [...strip.columns].reverse().map((c) => c.run);
  const fitting = runs.filter((r) => r.number !== selected && `${r.number} ${r.title} ${r.commit} ${r.author}`.toLowerCase().includes(wanted)).slice(0, 14);
  const [typed] = useDebouncedValue(wanted, 250);
  const found = useQuery({ ...pastQuery(project, { text: typed }, undefined), enabled: typed.length > 2 }).data?.runs ?? [];
  const elsewhere = typed === wanted ? found.filter((r) => r.number !== selected && !runs.some((known) => known.number === r.number)).slice(0, 6) : [];
  const branches = useQuery(stripQuery(project, undefined)).data?.branches ?? [];
  const heads = branches.filter((b) => wanted && b !== strip.branch && b.toLowerCase().includes(wanted)).slice(0, 4);
  const newest = useMutation({
    mutationFn: (branch: string) => client.query(stripQuery(project, branch)),
    onSuccess: (there) => {
      const last = there.columns.at(-1)?.run.number;
      if (last !== undefined) onBase(last);
    },
  });
  const none = newest.data?.columns.length === 0 ? `${newest.variables} has no run yet.` : undefined;
  const other = /^\d+$/.test(wanted) && Number(wanted) > 0 && !runs.some((r) => r.number === Number(wanted)) ? Number(wanted) : undefined;
  return (
    <>
      <Drop
        width={420}
        target={
          <button type="button" className="plain">
            Compare with…
          </button>
        }
        filter={{ label: "Compare with", placeholder: "Any run: number, title, commit, author, branch or tag", text, onText: setText }}
        entries={[
          ...fitting.map((run) => ({ key: run.number, title: `#${run.number} ${run.title}`, left: <VerdictMark verdict={run.word} />, now: run.number === base, onChoose: () => onBase(run.number) })),
          ...heads.map((branch) => ({ key: branch, title: `The newest run of ${branch}`, onChoose: () => newest.mutate(branch) })),
          ...elsewhere.map((run) => ({ key: run.number, title: `#${run.number} ${run.title}`, left: <VerdictMark verdict={run.word} />, right: <span className="soft">{run.context || run.event}</span>, onChoose: () => onBase(run.number) })),
          ...(other === undefined ? [] : [{ title: `Run #${other}, of another strip`, onChoose: () => onBase(other) }]),
        ]}
        nothing="no run is called that"
      />
      {(newest.error ?? none) && <span role="alert">{newest.error?.message ?? none}</span>}
    </>
  );
}
