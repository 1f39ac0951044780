import { useQuery } from "@tanstack/react-query";
import { projectsQuery } from "../app/queries";

/** A note in which numbers like #123 lead to the team's tracker, where the project names one. */
export function Noted({ text, project }: { text: string; project: string }) {
  const pattern = useQuery(projectsQuery).data?.find((p) => p.name === project)?.tracker ?? "";
  return linked(text, pattern).map((part, i) =>
    part.to ? (
      <a key={i} href={part.to} rel="noreferrer">
        {part.text}
      </a>
    ) : (
      <span key={i}>{part.text}</span>
    ),
  );
}

/** The parts of a note; those that name an entry of the tracker have an address. */
export function linked(text: string, pattern: string): { text: string; to?: string }[] {
  if (!/^https?:\/\/.*\{id\}/.test(pattern)) return [{ text }];
  return text
    .split(/(#[A-Za-z0-9-]{1,40})/)
    .filter(Boolean)
    .map((part) => (/^#[A-Za-z0-9-]+$/.test(part) ? { text: part, to: pattern.replace("{id}", encodeURIComponent(part.slice(1))) } : { text: part }));
}
