import type { Finding, Run } from "../api/client";
import { counted } from "../app/words";

/** A finding as Markdown that can be pasted into an issue or a chat. */
export function asMarkdown(finding: Finding, run: Run, address: string): string {
  const tests = finding.tests.length + finding.more_tests;
  const lines = [
    `**${finding.title}** — ${finding.mark} in ${run.project} #${run.run.number} (${run.run.commit.slice(0, 7)})`,
    "",
    `${counted(tests, "test")} in ${counted(finding.cells.length, "cell")}${finding.where ? `, ${finding.missed ? "mostly" : "only"} where \`${finding.where}\`` : ""}.`,
  ];
  if (finding.expected !== null && finding.actual !== null) lines.push("", fenced(`- ${finding.expected}\n+ ${finding.actual}`, "diff"));
  else if (finding.message) lines.push("", fenced(finding.message));
  if (finding.told) lines.push("", finding.told.say);
  if (finding.places[0]) lines.push("", `At \`${finding.places[0].file}:${finding.places[0].line}\`.`);
  return [...lines, "", address, ""].join("\n");
}

/** A fence longer than any in the text. */
function fenced(text: string, language = ""): string {
  const longest = Math.max(2, ...[...text.matchAll(/`+/g)].map((m) => m[0].length));
  const fence = "`".repeat(longest + 1);
  return `${fence}${language}\n${text}\n${fence}`;
}
