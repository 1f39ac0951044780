import { TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Attempt, Setting } from "../api/client";
import { recordQuery } from "../app/queries";
import { counted } from "../app/words";
import classes from "./evidence.module.css";

/** Each variable's value in force, where it came from, what that overrode, and files that set the same name. */
export function Settings({ attempt }: { attempt: Attempt }) {
  const [text, setText] = useState("");
  const settings = useQuery(recordQuery(attempt.id)).data?.settings ?? [];
  const wanted = text.toLowerCase();
  const shown = settings.filter((s) => `${s.name} ${s.value} ${s.origin}`.toLowerCase().includes(wanted)).sort((a, b) => weight(a) - weight(b));
  const contradicted = settings.filter((s) => s.files.some((f) => f.differs));
  if (settings.length === 0) return <p className={classes.intro}>The runner has told nothing of the settings{attempt.state === "running" ? " yet" : "; it may be of an older version"}.</p>;
  return (
    <>
      <p className={classes.intro}>
        {contradicted.length
          ? `${counted(contradicted.length, "setting")} ${contradicted.length === 1 ? "has" : "have"} another value in a file of the repository, which may override what is in force.`
          : "No file of the repository sets one of these names to another value."}
      </p>
      <TextInput size="xs" w={260} mb={6} placeholder="Filter by name, value or origin" aria-label="Filter settings" value={text} onChange={(e) => setText(e.currentTarget.value)} />
      <table className={classes.settings}>
        <thead>
          <tr>
            <th scope="col">Name</th>
            <th scope="col">Value in force</th>
            <th scope="col">Where it comes from</th>
            <th scope="col">Also set by</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((s) => (
            <tr key={`${s.name}/${s.step}`}>
              <td className="mono">{s.name}</td>
              <td className="mono">{s.value}</td>
              <td>
                {s.origin}
                {s.step && <span className="soft">; only step {s.step}</span>}
                {s.overrode.map((o, i) => (
                  <div key={i} className="soft">
                    overrode <code>{o.value}</code> of {o.origin}
                  </div>
                ))}
              </td>
              <td>
                {s.files.map((f) => (
                  <div key={`${f.file}/${f.line}`} className={f.differs ? classes.differs : "soft"}>
                    {f.file}:{f.line} {f.differs ? <>sets <code>{f.value}</code>, may override</> : "sets the same"}
                  </div>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** What may surprise comes first: contradicted, overridden, the plan's own, then Myriant's. */
function weight(s: Setting): number {
  if (s.files.some((f) => f.differs)) return 0;
  if (s.overrode.length) return 1;
  return s.origin === "Myriant" ? 3 : 2;
}
