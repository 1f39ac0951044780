import { ActionIcon, Menu, TextInput, useComputedColorScheme, useMantineColorScheme } from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState, useSyncExternalStore, type ReactNode } from "react";
import { Link, NavLink, useMatch, useNavigate, useSearchParams } from "react-router";
import { GoTo } from "./GoTo";
import classes from "./frame.module.css";
import { isConnected, onConnection } from "./live";
import { duration } from "./words";
import { meQuery, projectsQuery, pulseQuery, stripQuery } from "./queries";

export function Frame({ children }: { children: ReactNode }) {
  const project = useMatch("/p/:project/*")?.params.project;
  const [searching, setSearching] = useState(false);
  useHotkeys([["mod+K", () => setSearching(true)]], []);
  const connected = useSyncExternalStore(onConnection, isConnected);
  return (
    <div className={classes.frame}>
      <header className={classes.bar}>
        <Link to="/" className={classes.word}>
          <img src="/mark.svg" width={16} height={16} alt="" /> Myriant
        </Link>
        {project && <ProjectSwitch project={project} />}
        {project && <BranchSwitch project={project} />}
        {project && (
          <NavLink to={`/p/${project}/plan`} className={classes.link}>
            Plan
          </NavLink>
        )}
        {project && (
          <NavLink to={`/p/${project}/flaky`} className={classes.link}>
            Flaky
          </NavLink>
        )}
        {project && (
          <NavLink to={`/p/${project}/settings`} className={classes.link}>
            Settings
          </NavLink>
        )}
        <span className={classes.space} />
        <button type="button" className={classes.goto} onClick={() => setSearching(true)}>
          <span>Go to…</span>
          <kbd className="mono">Ctrl K</kbd>
        </button>
        <NavLink to="/runners" className={classes.link}>
          Runners
        </NavLink>
        <Pulse connected={connected} />
        <Account />
      </header>
      {!connected && (
        <div className={classes.lost} role="alert">
          The connection to the server was lost; what you see may be old. It is tried again by itself.
        </div>
      )}
      <main className={classes.body}>{children}</main>
      <GoTo opened={searching} onClose={() => setSearching(false)} />
    </div>
  );
}

function ProjectSwitch({ project }: { project: string }) {
  const projects = useQuery(projectsQuery).data ?? [];
  const navigate = useNavigate();
  return <Chooser label="Project" value={project} options={projects.map((p) => p.name)} onChoose={(name) => void navigate(`/p/${name}`)} />;
}

function BranchSwitch({ project }: { project: string }) {
  const [query] = useSearchParams();
  const navigate = useNavigate();
  const branch = query.get("branch") ?? undefined;
  const inPlan = useMatch("/p/:project/plan") !== null;
  const strip = useQuery(stripQuery(project, branch)).data;
  if (!strip) return null;
  return (
    <Chooser
      label="Branch"
      value={strip.branch}
      options={strip.branches}
      onChoose={(name) => void navigate(`/p/${project}${inPlan ? "/plan" : ""}?branch=${encodeURIComponent(name)}`)}
    />
  );
}

interface ChooserProps {
  label: string;
  value: string;
  options: string[];
  onChoose: (option: string) => void;
}

function Chooser({ label, value, options, onChoose }: ChooserProps) {
  const [text, setText] = useState("");
  const shown = options.filter((o) => o.toLowerCase().includes(text.toLowerCase())).slice(0, 50);
  return (
    <Menu position="bottom-start" width={260} shadow="none" withinPortal onClose={() => setText("")}>
      <Menu.Target>
        <button type="button" className={classes.switch} aria-label={`${label}: ${value}`}>
          {value.length > 40 ? `${value.slice(0, 39)}…` : value}
        </button>
      </Menu.Target>
      <Menu.Dropdown>
        <TextInput size="xs" m={4} placeholder="Type to filter" aria-label={`Filter ${label.toLowerCase()}s`} value={text} onChange={(e) => setText(e.currentTarget.value)} />
        {shown.map((option) => (
          <Menu.Item key={option} onClick={() => onChoose(option)} fw={option === value ? 650 : 400}>
            {option}
          </Menu.Item>
        ))}
        {shown.length === 0 && <Menu.Item disabled>nothing matches</Menu.Item>}
      </Menu.Dropdown>
    </Menu>
  );
}

function Pulse({ connected }: { connected: boolean }) {
  const pulse = useQuery(pulseQuery).data ?? { running: 0, waiting: 0, done_in: null };
  const busy = pulse.running + pulse.waiting > 0;
  useEffect(() => {
    document.title = busy ? `(${pulse.running + pulse.waiting}) Myriant` : "Myriant";
  }, [busy, pulse.running, pulse.waiting]);
  return (
    <span className={classes.pill} role="status" aria-label="Cells now">
      <span className={classes.dot} data-busy={busy} data-lost={!connected} />
      {busy ? `${pulse.running} running · ${pulse.waiting} waiting${pulse.done_in === null ? "" : ` · about ${duration(pulse.done_in)}`}` : "idle"}
    </span>
  );
}

function Account() {
  const me = useQuery(meQuery).data;
  const { setColorScheme } = useMantineColorScheme();
  const scheme = useComputedColorScheme("light");
  return (
    <Menu position="bottom-end" shadow="none" width={180}>
      <Menu.Target>
        <ActionIcon variant="default" radius="xl" size={26} aria-label={`Account: ${me?.name ?? ""}`}>
          {me?.name.slice(0, 1).toUpperCase()}
        </ActionIcon>
      </Menu.Target>
      <Menu.Dropdown>
        <Menu.Label>
          {me?.name}, {me?.role}
        </Menu.Label>
        <Menu.Item onClick={() => setColorScheme(scheme === "dark" ? "light" : "dark")}>{scheme === "dark" ? "Light" : "Dark"} theme</Menu.Item>
        <Menu.Item onClick={() => setColorScheme("auto")}>Theme of this machine</Menu.Item>
      </Menu.Dropdown>
    </Menu>
  );
}
