import { Checkbox, TextInput } from "@mantine/core";
import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useDeferredValue, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { useAddress } from "../app/address";
import { counted, size } from "../app/words";
import { spans } from "./ansi";
import classes from "./evidence.module.css";
import type { LogText } from "./useLog";

/** The log, streaming while it runs; only the lines in view are drawn. */
export function Log({ attempt, log, jump }: { attempt: number; log: LogText; jump: { offset: number; nonce: number } | undefined }) {
  const [address, go] = useAddress();
  const [text, setText] = useState("");
  const [follow, setFollow] = useState(address.line === undefined);
  const [wrap, setWrap] = useState(false);
  const box = useRef<HTMLDivElement>(null);
  const hits = useHits(log.lines, useDeferredValue(text));
  const [hit, setHit] = useState(0);
  const virtual = useVirtualizer({ count: log.lines.length, getScrollElement: () => box.current, estimateSize: () => 19, overscan: 30 });
  useLayoutEffect(() => {
    if (follow && !log.complete && log.lines.length > 0) virtual.scrollToIndex(log.lines.length - 1);
  }, [follow, log.complete, log.lines.length, virtual]);
  useEffect(() => {
    if (!jump) return;
    const line = log.offsets.findIndex((o, i) => o >= jump.offset || (log.offsets[i + 1] ?? Infinity) > jump.offset);
    if (line >= 0) virtual.scrollToIndex(line, { align: "start" });
  }, [jump]); // eslint-disable-line react-hooks/exhaustive-deps -- only a new jump moves the log
  useEffect(() => {
    if (address.line !== undefined) virtual.scrollToIndex(address.line - 1, { align: "center" });
  }, []); // eslint-disable-line react-hooks/exhaustive-deps -- the address's line is shown once, on arrival
  const toHit = (index: number) => {
    const wrapped = (index + hits.length) % Math.max(1, hits.length);
    setHit(wrapped);
    setFollow(false);
    const line = hits[wrapped];
    if (line !== undefined) virtual.scrollToIndex(line, { align: "center" });
  };
  const problem = useMemo(() => log.lines.findIndex((l) => /\b(not ok|error|failed|traceback|assert\w*|fatal)\b/i.test(l)), [log.lines]);
  return (
    <div>
      <div className={classes.bar}>
        <TextInput
          size="xs"
          w={220}
          placeholder="Search the log"
          aria-label="Search the log"
          value={text}
          onChange={(e) => {
            setText(e.currentTarget.value);
            setHit(0);
          }}
          onKeyDown={(e) => e.key === "Enter" && toHit(e.shiftKey ? hit - 1 : hit + 1)}
        />
        {text && <span className="soft">{hits.length ? `${Math.min(hit + 1, hits.length)} of ${counted(hits.length, "line")}` : "no line"}</span>}
        {problem >= 0 && (
          <button type="button" className="plain" style={{ color: "var(--accent)" }} onClick={() => virtual.scrollToIndex(problem, { align: "center" })}>
            First problem
          </button>
        )}
        <Checkbox size="xs" label="Follow" checked={follow} onChange={(e) => setFollow(e.currentTarget.checked)} disabled={log.complete} />
        <Checkbox size="xs" label="Wrap" checked={wrap} onChange={(e) => setWrap(e.currentTarget.checked)} />
        <span className="soft" style={{ marginLeft: "auto" }}>
          {counted(log.lines.length, "line")}, {size(log.size)}
        </span>
        <a href={`/api/v1/attempts/${attempt}/log/raw`}>
          Download
        </a>
      </div>
      <div ref={box} className={`mono ${classes.log ?? ""} ${wrap ? (classes.wrapped ?? "") : ""}`} tabIndex={0} role="log" aria-label="Log" aria-live="off" data-testid="log">
        {log.lines.length === 0 && <div className={classes.empty}>{log.complete ? "Nothing was printed." : "Nothing is printed yet."}</div>}
        <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {virtual.getVirtualItems().map((item) => (
            <div
              key={item.key}
              ref={wrap ? virtual.measureElement : undefined}
              data-index={item.index}
              className={classes.line}
              data-hit={hits[hit] === item.index}
              data-here={address.line === item.index + 1}
              style={{ transform: `translateY(${item.start}px)` }}
            >
              <a
                className={classes.number}
                href={`#${item.index + 1}`}
                onClick={(e) => {
                  e.preventDefault();
                  go({ line: item.index + 1 }, true);
                }}
              >
                {item.index + 1}
              </a>
              <Line text={log.lines[item.index] ?? ""} />
            </div>
          ))}
        </div>
      </div>
      {log.cut && <p className="soft">The page shows the first 24 MB; the download has all {size(log.size)}.</p>}
    </div>
  );
}

const Line = memo(function Line({ text }: { text: string }) {
  const long = text.length > 20_000;
  return (
    <span>
      {spans(long ? text.slice(0, 20_000) : text).map((s, i) => (
        <span key={i} className={s.colour === undefined ? undefined : classes[`c${s.colour}`]} style={s.bold ? { fontWeight: 650 } : s.faint ? { opacity: 0.75 } : undefined}>
          {s.text}
        </span>
      ))}
      {long && <span className="soft"> … {text.length - 20_000} more characters in the download</span>}
    </span>
  );
});

function useHits(lines: string[], text: string): number[] {
  return useMemo(() => {
    if (!text) return [];
    const wanted = text.toLowerCase();
    const found: number[] = [];
    lines.forEach((line, i) => line.toLowerCase().includes(wanted) && found.push(i));
    return found;
  }, [lines, text]);
}
