import { Select, TextInput } from "@mantine/core";
import { useState } from "react";
import type { Meaning, Standing, WantedEvent } from "../api/client";
import classes from "./plan.module.css";

interface Props {
  event: WantedEvent | undefined;
  meaning: Meaning | undefined;
  standing: Standing;
  onEvent: (event: WantedEvent | undefined) => void;
}

const kinds = [
  { value: "push", label: "a push" },
  { value: "pull-request", label: "a pull request" },
  { value: "tag", label: "a tag" },
  { value: "schedule", label: "a schedule" },
  { value: "manual", label: "by hand" },
];

const nothing: WantedEvent = { kind: "push", branch: "", source: "", tag: "", schedule: "", changed: null, jobs: null, cells: "" };

/** Any event, rehearsed: what it would run, and why the rest would not. */
export function Simulator({ event, meaning, standing, onEvent }: Props) {
  const e: WantedEvent = event ?? { ...nothing, branch: standing.main_branch };
  const set = (change: Partial<WantedEvent>) => onEvent({ ...e, ...change });
  const choose = (kind: string | null) =>
    onEvent({
      ...nothing,
      kind: kind ?? "push",
      branch: standing.main_branch,
      source: kind === "pull-request" ? "topic" : "",
      tag: kind === "tag" ? "v1.0" : "",
      schedule: kind === "schedule" ? (meaning?.schedules[0]?.name ?? "") : "",
    });
  return (
    <div className={classes.simulator} role="group" aria-label="Rehearse an event">
      <span className="soft">Rehearse</span>
      <Select size="xs" w={128} aria-label="Event" data={kinds} value={e.kind} allowDeselect={false} onChange={choose} />
      {(e.kind === "push" || e.kind === "manual") && <Field label={e.kind === "push" ? "to" : "on"} name="Branch" value={e.branch} onChange={(branch) => set({ branch })} />}
      {e.kind === "pull-request" && (
        <>
          <Field label="from" name="Own branch" value={e.source} onChange={(source) => set({ source })} />
          <Field label="into" name="Branch" value={e.branch} onChange={(branch) => set({ branch })} />
        </>
      )}
      {e.kind === "tag" && <Field label="named" name="Tag" value={e.tag} onChange={(tag) => set({ tag })} />}
      {e.kind === "schedule" && (
        <Select size="xs" w={140} aria-label="Schedule" data={(meaning?.schedules ?? []).map((s) => s.name)} value={e.schedule || null} placeholder="no schedule" onChange={(s) => set({ schedule: s ?? "" })} />
      )}
      {(e.kind === "push" || e.kind === "pull-request") && (
        <Field label="touching" name="Changed files" wide placeholder="any files" value={e.changed?.join(", ") ?? ""} onChange={(t) => set({ changed: t.trim() ? t.split(/[,\s]+/).filter(Boolean) : null })} />
      )}
      {e.kind === "manual" && <Field label="only" name="Cells" wide placeholder="all cells, or lua<=5.3" value={e.cells} onChange={(cells) => set({ cells })} />}
    </div>
  );
}

function Field({ label, name, value, placeholder, wide = false, onChange }: { label: string; name: string; value: string; placeholder?: string; wide?: boolean; onChange: (value: string) => void }) {
  // what is typed stays as it is typed; the address keeps what it means
  const [typed, setTyped] = useState({ text: value, from: value });
  if (typed.from !== value && normal(typed.text) !== normal(value)) setTyped({ text: value, from: value });
  return (
    <label className={classes.field}>
      <span className="soft">{label}</span>
      <TextInput
        size="xs"
        w={wide ? 168 : 104}
        aria-label={name}
        placeholder={placeholder}
        value={typed.text}
        onChange={(e) => {
          const text = e.currentTarget.value;
          setTyped({ text, from: value });
          onChange(text);
        }}
      />
    </label>
  );
}

const normal = (text: string) => text.replace(/[,\s]+/g, ",").replace(/^,|,$/g, "");
