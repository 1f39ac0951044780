import type { LineMark } from "./shapes";

const said: Record<LineMark, string> = { covered: "run", partly: "run in part: a branch was not taken", bare: "run by nothing", none: "" };

/** How a line stands, by fill alone: full, half, an empty frame; nothing for a line that cannot be covered. */
export function Gutter({ mark }: { mark: LineMark }) {
  const fill = mark === "bare" ? "none" : mark === "covered" ? "var(--teal)" : "var(--ochre)";
  return (
    <svg width={10} height={14} viewBox="0 0 10 14" role={mark === "none" ? "presentation" : "img"} aria-label={said[mark] || undefined} aria-hidden={mark === "none"}>
      {mark !== "none" && <title>{said[mark]}</title>}
      {mark === "covered" && <rect x={3} y={1} width={4} height={12} fill={fill} />}
      {mark === "partly" && <path d="M3 1h4v12h-4z M3 7h4" fill="none" stroke="var(--ochreText)" />}
      {mark === "partly" && <rect x={3} y={7} width={4} height={6} fill={fill} />}
      {mark === "bare" && <rect x={2.5} y={1.5} width={5} height={11} fill="none" stroke="var(--vermilion)" strokeWidth={1.4} />}
    </svg>
  );
}
