import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { Notice } from "../app/Notice";
import { projectsQuery } from "../app/queries";
import { useNow } from "../app/useNow";
import { ago } from "../app/words";
import { VerdictMark } from "../marks/StatusMark";
import classes from "./desk.module.css";

/** Every project with its newest verdict. */
export function Desk() {
  const projects = useQuery(projectsQuery).data;
  const now = useNow();
  if (!projects) return null;
  if (projects.length === 0)
    return (
      <Notice title="No repository is watched yet">
        Watch one with <code>myriant project add PATH</code>; the next push to it starts a run.
      </Notice>
    );
  const held = projects.filter((p) => p.newest?.verdict === "held");
  return (
    <div className={classes.desk}>
      <h1>{held.length ? `${held.map((p) => p.name).join(", ")} ${held.length === 1 ? "is" : "are"} held.` : "No main line is held."}</h1>
      <ul className={classes.list}>
        {projects.map((p) => (
          <li key={p.name} className={classes.row}>
            {p.newest ? <VerdictMark verdict={p.newest.verdict} size={14} /> : <span />}
            <Link to={`/p/${p.name}`} className={classes.name}>
              {p.name}
            </Link>
            <span className={classes.sentence}>{p.trouble ? `The repository cannot be read: ${p.trouble}` : (p.newest?.sentence ?? "nothing has run yet")}</span>
            <span className="soft">{p.newest && ago(p.newest.at, now)}</span>
            <span className={`soft ${classes.about ?? ""}`}>{p.description}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}
