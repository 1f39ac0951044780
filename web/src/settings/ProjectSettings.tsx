import { useParams } from "react-router";
import { Audit } from "./Audit";
import { Badges } from "./Badges";
import { Caches } from "./Caches";
import { Drill } from "./Drill";
import { Foreign } from "./Foreign";
import { Hearers } from "./Hearers";
import { Kinds } from "./Kinds";
import { Secrets } from "./Secrets";
import { ThisProject } from "./ThisProject";
import { Waivers } from "./Waivers";
import { Ways } from "./Ways";
import classes from "./settings.module.css";

/** What is kept for a project beside its plan. */
export function ProjectSettings() {
  const { project = "" } = useParams();
  return (
    <div className={classes.page}>
      <h1>Settings of {project}</h1>
      <p className="soft">What the server keeps for this project and its plan cannot hold. What is tested, and by which rules, stands in the plan.</p>
      <ThisProject key={project} project={project} />
      <Ways project={project} />
      <Hearers project={project} />
      <Foreign project={project} />
      <Badges project={project} />
      <Secrets project={project} />
      <Caches project={project} />
      <Kinds project={project} />
      <Waivers project={project} />
      <Drill key={`drill of ${project}`} project={project} />
      <Audit project={project} />
    </div>
  );
}
