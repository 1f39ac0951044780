import { useParams } from "react-router";
import { Audit } from "./Audit";
import { Caches } from "./Caches";
import { Kinds } from "./Kinds";
import { Secrets } from "./Secrets";
import classes from "./settings.module.css";

/** What is kept for a project beside its plan. */
export function ProjectSettings() {
  const { project = "" } = useParams();
  return (
    <div className={classes.page}>
      <h1>Kept for {project}, beside its plan.</h1>
      <Secrets project={project} />
      <Caches project={project} />
      <Kinds project={project} />
      <Audit project={project} />
    </div>
  );
}
