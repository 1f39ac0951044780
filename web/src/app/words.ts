/** How numbers, times and sizes are written; one way everywhere. */

export function duration(seconds: number): string {
  if (seconds < 0.0005) return "under 1 ms";
  if (seconds < 0.1) return `${Math.round(seconds * 1000)} ms`;
  if (seconds < 10) return `${seconds.toFixed(1)} s`;
  const whole = Math.round(seconds);
  if (whole < 60) return `${whole} s`;
  if (whole < 3600) return whole % 60 ? `${Math.floor(whole / 60)} min ${whole % 60} s` : `${whole / 60} min`;
  return `${Math.floor(whole / 3600)} h ${Math.floor((whole % 3600) / 60)} min`;
}

export function counted(number: number, one: string, many = `${one}s`): string {
  return `${number.toLocaleString("en")} ${number === 1 ? one : many}`;
}

export function size(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`;
  if (bytes < 1_000_000) return `${(bytes / 1000).toFixed(1)} kB`;
  if (bytes < 1_000_000_000) return `${(bytes / 1_000_000).toFixed(1)} MB`;
  return `${(bytes / 1_000_000_000).toFixed(1)} GB`;
}

export function ago(time: string, now: number): string {
  const seconds = (now - Date.parse(time)) / 1000;
  if (seconds < 45) return "just now";
  if (seconds < 3600) return `${Math.max(1, Math.round(seconds / 60))} min ago`;
  if (seconds < 86_400) return `${Math.round(seconds / 3600)} h ago`;
  const days = Math.round(seconds / 86_400);
  return days < 60 ? counted(days, "day") + " ago" : `${Math.round(days / 30)} months ago`;
}

export function exact(time: string): string {
  return new Date(time).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "medium" });
}

/** A day as people write it: 5 Dec 2026. */
export function exactDay(time: string): string {
  return new Date(time).toLocaleDateString("en-GB", { dateStyle: "medium" });
}

/** A change with its sign: +0.3, −5.4, ±0.0. */
export function signed(value: number): string {
  const text = Math.abs(value).toFixed(1);
  return `${text === "0.0" ? "±" : value > 0 ? "+" : "−"}${text}`;
}

/** A long name cut in its middle, where names of one family differ least. */
export function middle(text: string, most: number): string {
  const letters = Array.from(text);
  if (letters.length <= most) return text;
  const tail = Math.floor((most - 1) / 2);
  return `${letters.slice(0, most - 1 - tail).join("")}…${letters.slice(letters.length - tail).join("")}`;
}

export const short = (commit: string) => commit.slice(0, 7);
