import { NativeSelect } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Attempt, Run } from "../api/client";
import { useAddress } from "../app/address";
import { differenceQuery, recordQuery, runQuery } from "../app/queries";
import { counted, size } from "../app/words";
import classes from "./evidence.module.css";

/** What the attempt was made of, and what differs from the last passing attempt of the same cell, or from any other cell. */
export function Machine({ attempt, run }: { attempt: Attempt; run: Run }) {
  const [address] = useAddress();
  const [other, setOther] = useState("");
  const beside = useQuery({ ...runQuery(run.project, address.base ?? 0), enabled: address.base !== undefined }).data;
  const others = [run, ...(beside ? [beside] : [])].flatMap((of) =>
    of.cells
      .filter((c) => c.attempt_id !== null && c.attempt_id !== attempt.id)
      .map((c) => ({ value: String(c.attempt_id), label: `${of === run ? "" : `#${of.run.number} `}${c.job} ${c.key}`.trim() })),
  );
  const record = useQuery(recordQuery(attempt.id)).data;
  const difference = useQuery(differenceQuery(attempt.id, other ? Number(other) : undefined)).data;
  const sections = Object.entries(record?.machine ?? {}).filter(([, values]) => Object.keys(values).length > 0);
  if (sections.length === 0) return <p className={classes.intro}>The runner tells what the attempt was made of when its steps have ended.</p>;
  return (
    <>
      <p className={classes.intro}>
        {difference
          ? difference.differing.length
            ? `${counted(difference.differing.length, "thing")} ${other ? "differ from" : "changed since"} ${difference.said}; ${difference.same} are the same.`
            : `Nothing ${other ? "differs from" : "changed since"} ${difference.said}: ${counted(difference.same, "thing")} compared.`
          : other
            ? "That cell has told nothing of its machine."
            : "No earlier attempt of this cell has passed and told of its machine, so there is nothing to compare with."}{" "}
        On your own machine: <code>myriant environment --against {attempt.id}</code>
      </p>
      {others.length > 0 && <NativeSelect size="xs" w={320} mb={8} label="Against" value={other} onChange={(e) => setOther(e.currentTarget.value)} data={[{ value: "", label: "the last that passed in this cell" }, ...others]} />}
      {difference && difference.differing.length > 0 && (
        <table className={classes.settings}>
          <thead>
            <tr>
              <th scope="col">What</th>
              <th scope="col">{other ? "There" : "Then"}</th>
              <th scope="col">Here</th>
            </tr>
          </thead>
          <tbody>
            {difference.differing.map((d) => (
              <tr key={`${d.section}/${d.name}`}>
                <td>
                  {d.name} <span className="soft">{d.section}</span>
                </td>
                <td className="mono">{d.there || "(none)"}</td>
                <td className={`mono ${classes.differs ?? ""}`}>{d.here || "(none)"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {(record?.caches ?? []).map((c) => (
        <p key={c.name} className={classes.cache}>
          Cache <b>{c.name}</b> {c.found ? "found" : "missed"}: {c.said}
          {c.found && `, ${size(c.size)} in ${c.seconds.toFixed(1)} s`}
          {c.won !== null && `; ${c.won >= 0 ? `it won ${c.won.toFixed(1)} s` : `it cost ${(-c.won).toFixed(1)} s more than it won`}`}
          {c.saved > 0 && `; ${size(c.saved)} saved for the next`}.
        </p>
      ))}
      <div className={classes.made}>
        {sections.map(([section, values]) => (
          <section key={section}>
            <h3>{section}</h3>
            <dl>
              {Object.entries(values).map(([name, value]) => (
                <div key={name}>
                  <dt>{name}</dt>
                  <dd className="mono">{value}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
      </div>
    </>
  );
}
