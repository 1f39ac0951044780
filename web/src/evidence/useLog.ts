import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

const PIECE = 1_000_000;
const MOST = 24_000_000; // bytes shown in the page; the rest is for the download

export interface LogText {
  lines: string[];
  /** Byte offset at which each line begins. */
  offsets: number[];
  size: number;
  complete: boolean;
  cut: boolean;
}

interface Kept {
  attempt: number;
  bytes: number;
  rest: string;
  lines: string[];
  offsets: number[];
  decoder: TextDecoder;
}

const fresh = (attempt: number): Kept => ({ attempt, bytes: 0, rest: "", lines: [], offsets: [], decoder: new TextDecoder() });

/** An attempt's log, growing while it is written: only what is new is fetched. */
export function useLog(attempt: number): LogText | undefined {
  const kept = useRef<Kept>(fresh(attempt));
  const [shown, setShown] = useState<LogText>();
  const client = useQueryClient();
  const tick = useQuery({
    queryKey: ["log", attempt],
    queryFn: async ({ signal }) => {
      if (kept.current.attempt !== attempt) kept.current = fresh(attempt);
      const log = kept.current;
      const answer = await fetch(`/api/v1/attempts/${attempt}/log?start=${log.bytes}&most=${PIECE}`, { signal });
      if (!answer.ok) throw new Error(`the log cannot be read: ${answer.status}`);
      const data = new Uint8Array(await answer.arrayBuffer());
      append(log, data);
      const size = Number(answer.headers.get("X-Log-Size"));
      return { at: log.bytes, size, complete: answer.headers.get("X-Log-Complete") === "yes" };
    },
    structuralSharing: false,
    staleTime: 0,
  });
  useEffect(() => {
    const log = kept.current;
    if (!tick.data || log.attempt !== attempt) return;
    const cut = log.bytes >= MOST;
    const unfinished = log.rest ? [log.rest] : [];
    setShown({
      lines: [...log.lines, ...unfinished],
      offsets: unfinished.length ? [...log.offsets, log.bytes] : log.offsets,
      size: tick.data.size,
      complete: tick.data.complete,
      cut: cut && tick.data.size > log.bytes,
    });
    if (tick.data.at < tick.data.size && !cut) void client.invalidateQueries({ queryKey: ["log", attempt] });
  }, [tick.data, attempt, client]);
  return shown;
}

function append(log: Kept, data: Uint8Array) {
  const start = log.bytes;
  log.bytes += data.length;
  const pieces = (log.rest + log.decoder.decode(data, { stream: true })).split("\n");
  let offset = start - new TextEncoder().encode(log.rest).length;
  log.rest = pieces.pop() ?? "";
  for (const piece of pieces) {
    log.lines.push(piece);
    log.offsets.push(offset);
    offset += byteLength(piece) + 1;
  }
}

function byteLength(text: string): number {
  let bytes = text.length;
  for (let i = 0; i < text.length; i++) {
    const code = text.charCodeAt(i);
    if (code > 0x7f) bytes += code > 0x7ff ? 2 : 1;
    if (code >= 0xd800 && code <= 0xdbff) bytes -= 2;
  }
  return bytes;
}
