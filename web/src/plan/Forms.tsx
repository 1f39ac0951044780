import { Button, Checkbox, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import { api, taken, type Meaning } from "../api/client";
import type { Known } from "./context";
import classes from "./plan.module.css";

type Doc = Record<string, unknown>;
type Path = (string | number)[];
type Set = (path: Path, value: unknown) => void;

interface Props {
  text: string;
  meaning: Meaning | undefined;
  known: Known | undefined;
  onText: (text: string) => void;
}

/** The plan as forms: another view of the same text, which is changed in place. */
export function Forms({ text, meaning, known, onText }: Props) {
  const [trouble, setTrouble] = useState("");
  const doc = meaning?.document ?? {};
  if (Object.keys(doc).length === 0)
    return <p className={classes.quiet}>{text.trim() ? "The forms show the plan once its text is valid TOML." : "The plan is empty: take a proposal at the left, or insert a job."}</p>;
  const set: Set = (path, value) => {
    taken(api.POST("/api/v1/plan/change", { body: { text, path, value } }))
      .then((done) => {
        setTrouble("");
        onText(done.text);
      })
      .catch((e: unknown) => setTrouble(e instanceof Error ? e.message : "the server does not answer"));
  };
  const jobs = table(doc["jobs"]);
  const rules = list(table(doc["gate"])["rules"]);
  const events = table(doc["events"]);
  return (
    <div className={classes.forms} data-testid="forms">
      {trouble && <p className={classes.stuck}>{trouble}</p>}
      <fieldset>
        <legend>What starts a run</legend>
        <Line label="Pushes to" value={texts(table(events["push"])["branches"])} placeholder={doc["events"] ? "any branch" : "any branch (no events are named)"} onSet={(v) => set(["events", "push", "branches"], split(v))} />
        <Line label="Pull requests into" value={texts(table(events["pull-request"])["into"])} placeholder="any branch" onSet={(v) => set(["events", "pull-request", "into"], split(v))} />
        <Line label="Tags" value={texts(table(events["tag"])["names"])} placeholder="none" onSet={(v) => set(["events", "tag", "names"], split(v))} />
      </fieldset>
      {Object.entries(jobs).map(([id, job]) => (
        <JobForm key={id} id={id} job={table(job)} known={known} set={set} />
      ))}
      {rules.map((rule, i) => (
        <RuleForm key={i} index={i} rule={table(rule)} known={known} set={set} />
      ))}
    </div>
  );
}

function JobForm({ id, job, known, set }: { id: string; job: Doc; known: Known | undefined; set: Set }) {
  const at = (...rest: Path): Path => ["jobs", id, ...rest];
  const vary = table(job["vary"]);
  const [name, setName] = useState("");
  const runtimes = list(job["runtime"]) as string[];
  return (
    <fieldset>
      <legend>Job {id}</legend>
      <Line label="Title" value={text(job["title"])} onSet={(v) => set(at("title"), v || null)} />
      {Object.keys(vary).map((d) => (
        <div key={d} className={classes.row}>
          <span>{d}</span>
          <Value label={`Values of ${d}`} value={texts(vary[d])} onSet={(v) => set(at("vary", d), split(v))} />
          <Checkbox size="xs" label="runtime" checked={runtimes.includes(d)} onChange={(e) => set(at("runtime"), e.currentTarget.checked ? [...runtimes, d] : runtimes.filter((r) => r !== d))} />
        </div>
      ))}
      <div className={classes.row}>
        <span>New dimension</span>
        <TextInput size="xs" aria-label={`New dimension of ${id}`} placeholder="python" value={name} onChange={(e) => setName(e.currentTarget.value)} />
        <Button
          size="compact-xs"
          variant="default"
          disabled={!/^[a-z][a-z0-9-]*$/.test(name)}
          onClick={() => {
            const offered = (known?.offers ?? []).filter((o) => o.startsWith(`${name} `)).map((o) => o.slice(name.length + 1));
            set(at("vary", name), offered.filter((o) => o.split(".").length === 2).slice(-2).concat(offered.length ? [] : ["…"]));
            setName("");
          }}
        >
          Add
        </Button>
      </div>
      <Line label="After" value={texts(job["after"])} placeholder="no other job" onSet={(v) => set(at("after"), v ? split(v) : null)} />
      <Line label="Time limit" value={text(job["timeout"])} placeholder="20 min" onSet={(v) => set(at("timeout"), v || null)} />
      {list(job["steps"]).map((raw, i) => {
        const step = table(raw);
        const collects = Array.isArray(step["collect"]) ? undefined : table(step["collect"]);
        return (
          <div key={i} className={classes.step}>
            <Line label={`Step ${i + 1}`} value={text(step["name"])} placeholder="its name" onSet={(v) => set(at("steps", i, "name"), v || null)} onRemove={() => set(at("steps", i), null)} />
            {step["shared"] ? (
              <Line label="Shared steps" value={text(step["shared"])} onSet={(v) => set(at("steps", i, "shared"), v)} />
            ) : (
              <Line label="Command" value={Array.isArray(step["command"]) ? JSON.stringify(step["command"]) : text(step["command"])} onSet={(v) => set(at("steps", i, "command"), v)} />
            )}
            {collects && <Line label="Test results" value={texts(collects["tests"])} placeholder="none" onSet={(v) => set(at("steps", i, "collect", "tests"), v ? split(v) : null)} />}
            {collects && <Line label="Coverage" value={texts(collects["coverage"])} placeholder="none" onSet={(v) => set(at("steps", i, "collect", "coverage"), v ? split(v) : null)} />}
          </div>
        );
      })}
    </fieldset>
  );
}

function RuleForm({ index, rule, known, set }: { index: number; rule: Doc; known: Known | undefined; set: Set }) {
  const at = (key: string): Path => ["gate", "rules", index, key];
  const sign = rule["at-least"] !== undefined ? "at-least" : "at-most";
  return (
    <fieldset>
      <legend>Rule {index + 1}</legend>
      <Line label="Name" value={text(rule["name"])} onSet={(v) => set(at("name"), v || null)} />
      <div className={classes.row}>
        <span>Measure</span>
        <Select size="xs" aria-label={`Measure of rule ${index + 1}`} data={Object.keys(known?.measures ?? {})} value={text(rule["measure"]) || null} allowDeselect={false} onChange={(v) => set(at("measure"), v)} />
      </div>
      <Line label={sign === "at-least" ? "At least" : "At most"} value={text(rule[sign])} onSet={(v) => set(at(sign), v !== "" && !Number.isNaN(Number(v)) ? Number(v) : v)} />
      <div className={classes.row}>
        <span>Level</span>
        <Select size="xs" aria-label={`Level of rule ${index + 1}`} data={["block", "warn"]} value={text(rule["level"]) || "block"} allowDeselect={false} onChange={(v) => set(at("level"), v)} />
      </div>
    </fieldset>
  );
}

function Line({ label, value, placeholder, onSet, onRemove }: { label: string; value: string; placeholder?: string; onSet: (value: string) => void; onRemove?: () => void }) {
  return (
    <div className={classes.row}>
      <span>{label}</span>
      <Value label={label} value={value} placeholder={placeholder} onSet={onSet} />
      {onRemove && (
        <Button size="compact-xs" variant="subtle" onClick={onRemove}>
          Take out
        </Button>
      )}
    </div>
  );
}

/** A field that is set when it is left or Enter is pressed. */
function Value({ label, value, placeholder, onSet }: { label: string; value: string; placeholder?: string; onSet: (value: string) => void }) {
  const [typed, setTyped] = useState({ text: value, from: value });
  if (typed.from !== value) setTyped({ text: value, from: value });
  const done = () => {
    if (typed.text !== value) onSet(typed.text.trim());
  };
  return (
    <TextInput
      size="xs"
      aria-label={label}
      placeholder={placeholder}
      value={typed.text}
      onChange={(e) => setTyped({ text: e.currentTarget.value, from: value })}
      onBlur={done}
      onKeyDown={(e) => {
        if (e.key === "Enter") done();
      }}
    />
  );
}

const table = (value: unknown): Doc => (typeof value === "object" && value !== null && !Array.isArray(value) ? (value as Doc) : {});
const list = (value: unknown): unknown[] => (Array.isArray(value) ? value : []);
const text = (value: unknown): string => (typeof value === "string" || typeof value === "number" ? String(value) : "");
const texts = (value: unknown): string => list(value).map((v) => (typeof v === "object" ? text(table(v)["job"]) : text(v))).join(", ");
const split = (value: string): string[] => value.split(",").map((v) => v.trim()).filter(Boolean);
