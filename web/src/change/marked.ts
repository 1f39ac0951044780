/** What is known of the lines of a change: which of them a failure names, and which of them nothing ran. */
import type { Finding, RunCoverage } from "../api/client";

export interface LineMarks {
  failing: Map<number, Finding>;
  bare: Set<number>;
}

/** By file, the lines that findings name and the changed lines that nothing ran. */
export function marksOf(findings: Finding[], coverage: RunCoverage | undefined): Map<string, LineMarks> {
  const found = new Map<string, LineMarks>();
  const of = (path: string) => {
    const known = found.get(path) ?? { failing: new Map<number, Finding>(), bare: new Set<number>() };
    found.set(path, known);
    return known;
  };
  for (const finding of findings) for (const place of finding.places) if (!of(place.file).failing.has(place.line)) of(place.file).failing.set(place.line, finding);
  for (const file of coverage?.change.files ?? []) for (const line of file.uncovered) of(file.path).bare.add(line);
  return found;
}
