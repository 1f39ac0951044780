/** One stream of changes a browser: the tab that holds the lock listens and tells the others. */
import type { QueryClient } from "@tanstack/react-query";
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

/** Keep the queries current until `stop` is aborted. */
export function listen(client: QueryClient, stop: AbortSignal): void {
  const channel = new BroadcastChannel("myriant-live");
  const pending = new Map<string, Change>();
  let timer: number | undefined;

  const flush = () => {
    timer = undefined;
    for (const change of pending.values()) refresh(client, change);
    pending.clear();
  };
  const take = (message: Message) => {
    if ("connected" in message) {
      if (message.connected && !connected) void client.invalidateQueries();
      setConnected(message.connected);
      return;
    }
    pending.set(`${message.change.kind}/${message.change.project}/${message.change.run}`, message.change);
    timer ??= window.setTimeout(flush, 60);
  };
  channel.onmessage = (event: MessageEvent<Message>) => take(event.data);
  const share = (message: Message) => {
    take(message);
    channel.postMessage(message);
  };

  const open = () =>
    new Promise<void>((done) => {
      const source = new EventSource("/api/v1/live");
      source.onopen = () => share({ connected: true });
      source.onmessage = (event: MessageEvent<string>) => share({ change: JSON.parse(event.data) as Change });
      source.onerror = () => share({ connected: false });
      stop.addEventListener("abort", () => {
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
    clearTimeout(timer);
  });
}

function refresh(client: QueryClient, change: Change): void {
  const { kind, project, run } = change;
  if (kind === "log") {
    void client.invalidateQueries({ queryKey: keys.log() });
    return;
  }
  void client.invalidateQueries({ queryKey: keys.pulse() });
  void client.invalidateQueries({ queryKey: keys.desk() });
  if (kind === "runner" || kind === "cell") void client.invalidateQueries({ queryKey: keys.runners() });
  if (kind === "project" || kind === "run") void client.invalidateQueries({ queryKey: keys.projects() });
  if (project !== null) {
    void client.invalidateQueries({ queryKey: keys.strip(project) });
    if (run !== null) void client.invalidateQueries({ queryKey: keys.run(project, run) });
    void client.invalidateQueries({ queryKey: keys.attempt() });
    void client.invalidateQueries({ queryKey: keys.log() });
  }
}
