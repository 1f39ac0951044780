/** Text edits: applied to a text, and the smallest change between two texts. Pure. */
export interface TextEdit {
  line: number;
  column: number;
  end_line: number;
  end_column: number;
  text: string;
}

/** The text after edits that do not overlap; places outside it are drawn to its ends. */
export function withEdits(text: string, edits: TextEdit[]): string {
  const starts = [0];
  for (const line of text.split("\n")) starts.push((starts.at(-1) ?? 0) + line.length + 1);
  const at = (line: number, column: number) => {
    const row = Math.min(Math.max(line, 1), starts.length - 1);
    if (line > row) return text.length;
    return Math.min((starts[row - 1] ?? 0) + Math.max(column, 1) - 1, (starts[row] ?? text.length + 1) - 1);
  };
  const spans = edits.map((e) => ({ from: at(e.line, e.column), to: at(e.end_line, e.end_column), text: e.text })).sort((a, b) => b.from - a.from);
  return spans.reduce((now, s) => now.slice(0, s.from) + s.text + now.slice(s.to), text);
}

/** The one stretch in which two texts differ. */
export function changesOf(before: string, after: string): { from: number; to: number; insert: string } {
  let from = 0;
  const most = Math.min(before.length, after.length);
  while (from < most && before[from] === after[from]) from += 1;
  let tail = 0;
  while (tail < most - from && before[before.length - 1 - tail] === after[after.length - 1 - tail]) tail += 1;
  return { from, to: before.length - tail, insert: after.slice(from, after.length - tail) };
}
