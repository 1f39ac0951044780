/** Joining the live end of a strip with its older history, whose jobs and cells may differ. */
import type { Column, Lane, Strip } from "../api/client";

export interface Joined {
  lanes: Lane[];
  columns: Column[];
}

/** `pieces` of history, newest first, end before run `anchor`; of `recent` everything from `anchor` on is taken. */
export function join(pieces: Strip[], recent: Strip, anchor: number | undefined): Joined {
  const from = anchor === undefined ? 0 : Math.max(0, recent.columns.findIndex((c) => c.run.number === anchor));
  const older = pieces.filter((piece) => piece.columns.length > 0);
  if (older.length === 0) return { lanes: recent.lanes, columns: recent.columns };
  const lanes = older.reduce((found, piece) => union(found, piece.lanes), recent.lanes);
  return {
    lanes,
    columns: [...older.reverse().flatMap((piece) => remap(piece, lanes)), ...remap({ ...recent, columns: recent.columns.slice(from) }, lanes)],
  };
}

function union(newer: Lane[], older: Lane[]): Lane[] {
  if (JSON.stringify(newer) === JSON.stringify(older)) return newer;
  const found = newer.map((lane) => ({ ...lane, keys: [...lane.keys] }));
  for (const lane of older) {
    const known = found.find((l) => l.job === lane.job);
    if (!known) found.push({ ...lane, keys: [...lane.keys] });
    else for (const key of lane.keys) if (!known.keys.includes(key)) known.keys.push(key);
  }
  return found;
}

function remap(strip: Strip, lanes: Lane[]): Column[] {
  if (JSON.stringify(strip.lanes) === JSON.stringify(lanes)) return strip.columns;
  const places = new Map<string, number>();
  strip.lanes.flatMap((lane) => lane.keys.map((key) => `${lane.job}/${key}`)).forEach((name, i) => places.set(name, i));
  const order = lanes.flatMap((lane) => lane.keys.map((key) => places.get(`${lane.job}/${key}`)));
  return strip.columns.map((column) => ({ ...column, marks: order.map((i) => (i === undefined ? " " : (column.marks[i] ?? " "))).join("") }));
}
