import { TextInput } from "@mantine/core";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { counted, signed } from "../app/words";
import type { FileShare } from "../api/client";
import { below, ordered, percent, straight, type FolderRow, type Order } from "./shapes";
import { OverTime } from "./OverTime";
import classes from "./coverage.module.css";

const orders: [Order, string][] = [["name", "by name"], ["share", "least covered first"], ["change", "most lost first"], ["bare", "what needs a look first"]];

/** Every file that reports name, folder by folder, or flat when something is searched for. */
export function Files({ project, job, files, onOpen }: { project: string; job: string; files: FileShare[]; onOpen: (file: string) => void }) {
  const [wanted, setFolder] = useState<string>();
  const [search, setSearch] = useState("");
  const [order, setOrder] = useState<Order>("name");
  const top = useMemo(() => straight(files, ""), [files]);
  const folder = wanted ?? top;
  const rows = useMemo(() => {
    const words = search.trim().toLowerCase();
    if (!words) return ordered(below(files, folder), order);
    const fitting = files.filter((f) => f.path.toLowerCase().includes(words));
    return ordered(fitting.map((f) => ({ ...f, name: f.path, folder: false, files: 1 })), order);
  }, [files, folder, search, order]);
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => 26, overscan: 20 });
  const enter = (row: FolderRow) => (row.folder ? setFolder(straight(files, row.path)) : onOpen(row.path));
  return (
    <>
    <section className={classes.part} aria-label="Files">
      <h3>
        Files <span className="soft">{counted(files.length, "file")}</span>
      </h3>
      <div className={classes.tools}>
        <TextInput size="xs" aria-label="Find a file" placeholder="find a file" value={search} onChange={(e) => setSearch(e.currentTarget.value)} />
        <span role="group" aria-label="Order">
          {orders.map(([key, text]) => (
            <button key={key} type="button" className="plain" aria-pressed={order === key} onClick={() => setOrder(key)}>
              {text}
            </button>
          ))}
        </span>
      </div>
      {!search.trim() && <Crumbs folder={folder} onGo={setFolder} />}
      <div ref={box} className={classes.files} tabIndex={0} role="list" aria-label={folder ? `Files in ${folder}` : "Files"}>
        <div style={{ height: virtual.getTotalSize(), position: "relative" }} role="presentation">
          {virtual.getVirtualItems().map((item) => {
            const row = rows[item.index];
            if (!row) return null;
            const change = row.before && row.before.valid > 0 && row.valid > 0 ? (row.covered / row.valid - row.before.covered / row.before.valid) * 100 : null;
            return (
              <div key={row.path} role="listitem" className={classes.fileRow} style={{ transform: `translateY(${item.start}px)` }}>
                <button type="button" className={`plain ${row.folder ? "" : "mono"}`} onClick={() => enter(row)} title={row.path}>
                  {row.name}
                  {row.folder && "/"}
                </button>
                <span className="soft tabular">{row.covered.toLocaleString("en")} of {counted(row.valid, "line")}</span>
                <span className={classes.bar} aria-hidden>
                  <i style={{ width: `${row.valid ? (row.covered / row.valid) * 100 : 0}%` }} />
                </span>
                <span className="tabular">{percent(row.covered, row.valid)}</span>
                <span className="soft tabular">{change !== null && Math.abs(change) >= 0.05 ? signed(change) : ""}</span>
                <span className={classes.note}>
                  {[row.changed > 0 && `${row.changed} changed, not run`, row.lost > 0 && `${row.lost} reached no more`].filter(Boolean).join("; ")}
                </span>
              </div>
            );
          })}
        </div>
      </div>
      {rows.length === 0 && <p className="soft">{search.trim() ? "No file is called that." : "Nothing lies here."}</p>}
    </section>
    <OverTime project={project} job={job} folder={folder} />
    </>
  );
}

function Crumbs({ folder, onGo }: { folder: string; onGo: (folder: string) => void }) {
  const parts = folder === "" ? [] : folder.split("/");
  return (
    <nav className={classes.crumbs} aria-label="Folder">
      <button type="button" className="plain" onClick={() => onGo("")} disabled={parts.length === 0}>
        the repository
      </button>
      {parts.map((part, i) => (
        <span key={i}>
          {" / "}
          <button type="button" className="plain" onClick={() => onGo(parts.slice(0, i + 1).join("/"))} disabled={i === parts.length - 1}>
            {part}
          </button>
        </span>
      ))}
    </nav>
  );
}
