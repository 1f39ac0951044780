import { ActionIcon, useComputedColorScheme, useMantineColorScheme } from "@mantine/core";
import { useMediaQuery } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useState, useSyncExternalStore, type ReactNode } from "react";
import { Link, NavLink, useLocation, useMatch, useNavigate, useSearchParams } from "react-router";
import { Drop } from "./Drop";
import classes from "./frame.module.css";
import { useActions } from "./keys";
import { isConnected, onConnection } from "./live";
import { useToldWhenEnded } from "./tab";
import { duration, middle } from "./words";
import { meQuery, projectsQuery, pulseQuery, stripQuery } from "./queries";

const GoTo = lazy(() => import("./GoTo").then((m) => ({ default: m.GoTo })));
const KeySheet = lazy(() => import("./KeySheet").then((m) => ({ default: m.KeySheet })));

export function Frame({ children }: { children: ReactNode }) {
  const project = useMatch("/p/:project/*")?.params.project;
  const [searching, setSearching] = useState(false);
  const [helping, setHelping] = useState(false);
  const narrow = useMediaQuery("(max-width: 900px)");
  const tight = useMediaQuery("(max-width: 1180px)");
  useActions({ goto: () => setSearching(true) });
  useActions({ help: () => setHelping(true) });
  useToldWhenEnded();
  const connected = useSyncExternalStore(onConnection, isConnected);
  const pages = [...pagesOf(project), { title: "Runners", to: "/runners" }, { title: "Sizes", to: "/sizes" }];
  const first = project && !tight ? pages.slice(0, SHOWN) : [];
  const rest = pages.slice(first.length);
  return (
    <div className={classes.frame}>
      <header className={classes.bar}>
        <Link to="/" className={classes.word}>
          <img src="/mark.svg" width={16} height={16} alt="" /> Myriant
        </Link>
        {project && <ProjectSwitch project={project} />}
        {project && <BranchSwitch project={project} />}
        {first.map((page) => (
          <NavLink key={page.to} to={page.to} className={classes.link}>
            {page.title}
          </NavLink>
        ))}
        {project && !narrow && <Rest pages={rest} />}
        <span className={classes.space} />
        {!narrow && (
          <button type="button" className={classes.goto} onClick={() => setSearching(true)}>
            <span>Go to…</span>
            <kbd className="mono">Ctrl K</kbd>
          </button>
        )}
        {!project && !narrow && (
          <NavLink to="/runners" className={classes.link}>
            Runners
          </NavLink>
        )}
        {!project && !narrow && (
          <NavLink to="/sizes" className={classes.link}>
            Sizes
          </NavLink>
        )}
        <Pulse connected={connected} narrow={narrow} />
        {narrow && <Rest pages={rest} onSearch={() => setSearching(true)} />}
        <Account onHelp={() => setHelping(true)} />
      </header>
      {!connected && (
        <div className={classes.lost} role="alert">
          The connection to the server was lost; what you see may be old. It is tried again by itself.
        </div>
      )}
      <main className={classes.body}>{children}</main>
      <Suspense fallback={null}>
        {searching && <GoTo opened onClose={() => setSearching(false)} onHelp={() => setHelping(true)} />}
        {helping && <KeySheet opened onClose={() => setHelping(false)} />}
      </Suspense>
    </div>
  );
}

const SHOWN = 4; // pages that stand in the bar; the rest lie behind More

/** The pages of a project, the ones of every day first. */
export function pagesOf(project: string | undefined): { title: string; to: string }[] {
  if (!project) return [];
  return [
    { title: "Morning", to: `/p/${project}/morning` },
    { title: "Pull requests", to: `/p/${project}/pulls` },
    { title: "Trends", to: `/p/${project}/trends` },
    { title: "Plan", to: `/p/${project}/plan` },
    { title: "All runs", to: `/p/${project}/past` },
    { title: "Releases", to: `/p/${project}/releases` },
    { title: "Versions", to: `/p/${project}/versions` },
    { title: "Flaky", to: `/p/${project}/flaky` },
    { title: "Rankings", to: `/p/${project}/rankings` },
    { title: "Cost", to: `/p/${project}/cost` },
    { title: "Report", to: `/p/${project}/report` },
    { title: "Settings", to: `/p/${project}/settings` },
  ];
}

/** The pages that do not stand in the bar; the one at hand names the button. */
function Rest({ pages, onSearch }: { pages: { title: string; to: string }[]; onSearch?: () => void }) {
  const { pathname } = useLocation();
  const here = pages.find((page) => page.to === pathname);
  return (
    <Drop
      width={190}
      target={
        <button type="button" className={`${classes.switch ?? ""} ${classes.rest ?? ""}`} data-here={here !== undefined} aria-label={here ? `More pages: ${here.title}` : "More pages"}>
          {here?.title ?? "More"}
        </button>
      }
      entries={[...(onSearch ? [{ title: "Go to…", onChoose: onSearch }] : []), ...pages]}
    />
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
  const inTrends = useMatch("/p/:project/trends") !== null;
  const strip = useQuery(stripQuery(project, branch)).data;
  if (!strip) return null;
  return (
    <Chooser
      label="Branch"
      value={strip.branch}
      options={strip.branches}
      onChoose={(name) => void navigate(`/p/${project}${inPlan ? "/plan" : inTrends ? "/trends" : ""}?branch=${encodeURIComponent(name)}`)}
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
    <Drop
      width={260}
      target={
        <button type="button" className={classes.switch} aria-label={`${label}: ${value}`}>
          <span title={value}>{middle(value, 36)}</span>
        </button>
      }
      filter={{ label: `Filter ${label.toLowerCase()}s`, placeholder: "Type to filter", text, onText: setText }}
      entries={shown.map((option) => ({ key: option, title: <span title={option}>{middle(option, 44)}</span>, now: option === value, onChoose: () => onChoose(option) }))}
      nothing="nothing matches"
    />
  );
}

function Pulse({ connected, narrow }: { connected: boolean; narrow: boolean }) {
  const pulse = useQuery(pulseQuery).data;
  const busy = pulse !== undefined && pulse.running + pulse.waiting + pulse.controls > 0;
  return (
    <span className={classes.pill} role="status" aria-label="Cells now">
      <span className={classes.dot} data-busy={busy} data-lost={!connected} />
      {pulseWords(pulse, connected, narrow)}
    </span>
  );
}

/** What the pill says: never that nothing runs when the server was not heard. */
export function pulseWords(pulse: { running: number; waiting: number; done_in: number | null; controls: number } | undefined, connected: boolean, narrow: boolean): string {
  if (!connected) return narrow ? "away" : "server away";
  if (!pulse) return "…";
  if (pulse.running + pulse.waiting === 0) return pulse.controls ? `${pulse.controls} repeated` : "idle";
  if (narrow) return `${pulse.running} · ${pulse.waiting}`;
  return `${pulse.running} running · ${pulse.waiting} waiting${pulse.done_in === null ? "" : ` · about ${duration(pulse.done_in)}`}`;
}

function Account({ onHelp }: { onHelp: () => void }) {
  const me = useQuery(meQuery).data;
  const { setColorScheme } = useMantineColorScheme();
  const scheme = useComputedColorScheme("light");
  return (
    <Drop
      width={180}
      atEnd
      target={
        <ActionIcon variant="default" radius="xl" size={26} aria-label={`Account: ${me?.name ?? ""}`}>
          {me?.name.slice(0, 1).toUpperCase()}
        </ActionIcon>
      }
      head={`${me?.name ?? ""}, ${me?.role ?? ""}`}
      entries={[
        { title: "Marks and keys", right: <kbd className="mono">?</kbd>, onChoose: onHelp },
        { title: scheme === "dark" ? "Light theme" : "Dark theme", onChoose: () => setColorScheme(scheme === "dark" ? "light" : "dark") },
        { title: "Theme of this machine", onChoose: () => setColorScheme("auto") },
      ]}
    />
  );
}
