/** Which parts of two texts differ, by words: a longest-common-subsequence over tokens. */

export interface Part {
  text: string;
  changed: boolean;
}

const tokens = (text: string) => text.match(/\s+|[\p{L}\p{N}_]+|[^\s\p{L}\p{N}_]/gu) ?? [];
const MOST = 600; // tokens; longer texts are compared from both ends only

export function difference(a: string, b: string): [Part[], Part[]] {
  const x = tokens(a);
  const y = tokens(b);
  let head = 0;
  while (head < x.length && head < y.length && x[head] === y[head]) head++;
  let tail = 0;
  while (tail < x.length - head && tail < y.length - head && x[x.length - 1 - tail] === y[y.length - 1 - tail]) tail++;
  const [keepX, keepY] = common(x.slice(head, x.length - tail), y.slice(head, y.length - tail));
  return [parts(x, head, tail, keepX), parts(y, head, tail, keepY)];
}

function common(x: string[], y: string[]): [Set<number>, Set<number>] {
  const keepX = new Set<number>();
  const keepY = new Set<number>();
  if (x.length > MOST || y.length > MOST) return [keepX, keepY];
  const width = y.length + 1;
  const best = new Uint16Array((x.length + 1) * width);
  for (let i = x.length - 1; i >= 0; i--)
    for (let j = y.length - 1; j >= 0; j--)
      best[i * width + j] =
        x[i] === y[j] ? (best[(i + 1) * width + j + 1] ?? 0) + 1 : Math.max(best[(i + 1) * width + j] ?? 0, best[i * width + j + 1] ?? 0);
  let [i, j] = [0, 0];
  while (i < x.length && j < y.length) {
    if (x[i] === y[j]) {
      keepX.add(i++);
      keepY.add(j++);
    } else if ((best[(i + 1) * width + j] ?? 0) >= (best[i * width + j + 1] ?? 0)) i++;
    else j++;
  }
  return [keepX, keepY];
}

function parts(all: string[], head: number, tail: number, keep: Set<number>): Part[] {
  const found: Part[] = [];
  all.forEach((text, i) => {
    const changed = i >= head && i < all.length - tail && !keep.has(i - head);
    const last = found.at(-1);
    if (last?.changed === changed) last.text += text;
    else found.push({ text, changed });
  });
  return found;
}
