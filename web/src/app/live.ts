/** One stream of changes a browser: the tab that holds the lock listens and tells the others. */
import type { QueryClient, QueryKey } from "@tanstack/react-query";
import { keys } from "./queries";

export interface Change {
  kind: string;
  project: string | null;
  run: number | null;
}

type Listener = (connected: boolean) => void;
const listeners = new Set<Listener>();
let connected = true;

export function onConnection(listener: Listener): () => void {
  listeners.add(listener);
  return () => listeners.delete(listener);
}
export const isConnected = () => connected;

function setConnected(now: boolean) {
  if (now === connected) return;
  connected = now;
  listeners.forEach((l) => l(now));
}

type Message = { change: Change } | { connected: boolean };

const LONGEST = 4000; // milliseconds
const SILENT = 20_000; // milliseconds after which an open line that says nothing is lost: signs of life come each 8 s

/**
 * Things come in bursts, and what follows from one takes its time: a round soon after the first, the next when that has
 * ended and twice its time has passed, at least `gap` milliseconds. What comes meanwhile is in the next round, once.
 */
export function rounds<T>(gap: number, go: (things: T[]) => Promise<unknown>) {
  const pending = new Map<string, T>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  let ended = false;

  const round = async () => {
    const things = [...pending.values()];
    pending.clear();
    const began = performance.now();
    let patience: ReturnType<typeof setTimeout> | undefined;
    await Promise.race([go(things).catch(() => undefined), new Promise((over) => (patience = setTimeout(over, LONGEST)))]);
    clearTimeout(patience);
    if (!ended) timer = setTimeout(rested, Math.min(LONGEST, Math.max(gap, 2 * (performance.now() - began))));
  };
  const rested = () => {
    if (pending.size > 0) void round();
    else timer = undefined;
  };
  return {
    add: (name: string, thing: T) => {
      pending.set(name, thing);
      if (!ended) timer ??= setTimeout(() => void round(), 60);
    },
    end: () => {
      ended = true;
      pending.clear();
      clearTimeout(timer);
    },
  };
}

/** Keep the queries current until `stop` is aborted. */
export function listen(client: QueryClient, stop: AbortSignal): void {
  const channel = new BroadcastChannel("myriant-live");
  const ask = (concerned: QueryKey[]) =>
    Promise.all(concerned.map((queryKey) => client.invalidateQueries(queryKey[0] === "older" ? { predicate: (query) => holds(query, queryKey) } : { queryKey })));
  const lines = rounds(150, ask);
  const others = rounds(350, ask);
  const take = (message: Message) => {
    if ("connected" in message) {
      if (message.connected && !connected) void client.invalidateQueries();
      setConnected(message.connected);
      return;
    }
    for (const key of concerned(message.change)) {
      (message.change.kind === "log" ? lines : others).add(JSON.stringify(key), key);
    }
  };
  channel.onmessage = (event: MessageEvent<Message>) => take(event.data);
  const share = (message: Message) => {
    take(message);
    channel.postMessage(message);
  };

  const open = () =>
    new Promise<void>((done) => {
      let source: EventSource;
      let patience: ReturnType<typeof setTimeout> | undefined;
      const heard = () => {
        clearTimeout(patience);
        patience = setTimeout(() => {
          share({ connected: false });
          source.close();
          begin();
        }, SILENT);
      };
      const begin = () => {
        source = new EventSource("/api/v1/live");
        source.onopen = () => {
          heard();
          share({ connected: true });
        };
        source.onmessage = (event: MessageEvent<string>) => {
          heard();
          share({ change: JSON.parse(event.data) as Change });
        };
        source.addEventListener("alive", heard);
        source.onerror = () => share({ connected: false });
        heard();
      };
      begin();
      stop.addEventListener("abort", () => {
        clearTimeout(patience);
        source.close();
        done();
      });
    });
  // without locks (plain http on another host) every tab listens for itself
  const locks = (navigator as { locks?: LockManager }).locks;
  if (locks) void locks.request("myriant-live", { signal: stop }, open).catch(() => undefined);
  else void open();
  stop.addEventListener("abort", () => {
    channel.close();
    lines.end();
    others.end();
  });
}

/** Whether a query is of older runs of a strip, and this one is among them: judged anew, it must not stand as it was. */
export function holds(query: { queryKey: QueryKey; state: { data: unknown } }, [, project, run]: QueryKey): boolean {
  if (query.queryKey[0] !== "history" || query.queryKey[1] !== project) return false;
  const data = query.state.data as { pages: { columns: { run: { number: number } }[] }[] } | undefined;
  return data?.pages.some((piece) => piece.columns.some((column) => column.run.number === run)) ?? false;
}

/** What is asked for again after a change. */
export function concerned({ kind, project, run }: Change): QueryKey[] {
  if (kind === "log") return [keys.log()];
  const found: QueryKey[] = [keys.pulse(), keys.desk()];
  if (kind === "runner" || kind === "cell") found.push(keys.runners());
  if (kind === "project" || kind === "run") found.push(keys.projects());
  if (project !== null) {
    found.push(keys.strip(project), keys.attempt(), keys.log(), keys.releases(project), keys.morning(project), keys.ways(project));
    if (run !== null) found.push(keys.run(project, run), keys.older(project, run));
  }
  return found;
}
