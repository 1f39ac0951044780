/** Terminal colours (ECMA-48 SGR) in a line of log, as styled parts; other control sequences are dropped. */

export interface Span {
  text: string;
  colour?: number;
  bold?: boolean;
  faint?: boolean;
}

const SEQUENCE = /\u001b\[([0-9;:]*)([A-Za-z])|\u001b\][^\u0007\u001b]*(?:\u0007|\u001b\\)|\u001b[^[\]]/g;

export function spans(line: string): Span[] {
  // a carriage return draws over what stood before it
  const shown = line.includes("\r") ? (line.replace(/\r+$/, "").split("\r").at(-1) ?? "") : line;
  if (!shown.includes("\u001b")) return [{ text: shown }];
  const found: Span[] = [];
  let style: Omit<Span, "text"> = {};
  let at = 0;
  for (const match of shown.matchAll(SEQUENCE)) {
    if (match.index > at) found.push({ text: shown.slice(at, match.index), ...style });
    if (match[2] === "m") style = styled(style, match[1] ?? "");
    at = match.index + match[0].length;
  }
  if (at < shown.length) found.push({ text: shown.slice(at), ...style });
  return found;
}

function styled(before: Omit<Span, "text">, codes: string): Omit<Span, "text"> {
  let style = { ...before };
  const numbers = codes === "" ? [0] : codes.split(/[;:]/).map(Number);
  for (let i = 0; i < numbers.length; i++) {
    const code = numbers[i] ?? 0;
    if (code === 0) style = {};
    else if (code === 1) style.bold = true;
    else if (code === 2) style.faint = true;
    else if (code === 22) style = { ...style, bold: undefined, faint: undefined };
    else if (code >= 30 && code <= 37) style.colour = code - 30;
    else if (code >= 90 && code <= 97) style.colour = code - 90;
    else if (code === 39) style.colour = undefined;
    else if (code === 38 || code === 48) i += numbers[i + 1] === 5 ? 2 : 4; // other palettes are shown plain
  }
  return style;
}
