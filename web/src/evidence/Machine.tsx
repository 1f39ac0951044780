import { useQuery } from "@tanstack/react-query";
import type { Attempt } from "../api/client";
import { differenceQuery, recordQuery } from "../app/queries";
import { counted, size } from "../app/words";
import classes from "./evidence.module.css";

/** What the attempt was made of, and what differs from the last passing attempt of the same cell. */
export function Machine({ attempt }: { attempt: Attempt }) {
  const record = useQuery(recordQuery(attempt.id)).data;
  const difference = useQuery(differenceQuery(attempt.id, undefined)).data;
  const sections = Object.entries(record?.machine ?? {}).filter(([, values]) => Object.keys(values).length > 0);
  if (sections.length === 0) return <p className={classes.intro}>The runner tells what the attempt was made of when its steps have ended.</p>;
  return (
    <>
      <p className={classes.intro}>
        {difference
          ? difference.differing.length
            ? `${counted(difference.differing.length, "thing")} changed since ${difference.said}; ${difference.same} are the same.`
            : `Nothing changed since ${difference.said}: ${counted(difference.same, "thing")} compared.`
          : "No earlier attempt of this cell has passed and told of its machine, so there is nothing to compare with."}{" "}
        On your own machine: <code>myriant environment --against {attempt.id}</code>
      </p>
      {difference && difference.differing.length > 0 && (
        <table className={classes.settings}>
          <thead>
            <tr>
              <th scope="col">What</th>
              <th scope="col">Then</th>
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
