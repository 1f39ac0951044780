import { useComputedColorScheme } from "@mantine/core";
import { useElementSize } from "@mantine/hooks";
import { TreemapChart } from "echarts/charts";
import { AriaComponent, TooltipComponent } from "echarts/components";
import { init, use as register, type ECharts } from "echarts/core";
import { CanvasRenderer } from "echarts/renderers";
import { useEffect, useMemo, useRef, useState } from "react";
import type { FileShare } from "../api/client";
import { counted, signed } from "../app/words";
import { palettes, type Ink } from "../marks/palette";
import { areas, percent, stepOf, type Area, type Tint } from "./shapes";
import classes from "./coverage.module.css";

register([TreemapChart, TooltipComponent, AriaComponent, CanvasRenderer]);
// quiet where all is well, as everywhere: ink is spent on what is not
const scales: Record<Tint, Ink[]> = { share: ["vermilion", "ochre", "faint", "quietEdge", "quiet"], change: ["vermilion", "ochre", "quiet", "quietEdge", "teal"] };
const means: Record<Tint, string[]> = {
  share: ["under 50 %", "under 70 %", "under 85 %", "under 100 %", "every line"],
  change: ["5 points less", "less", "as before", "more", "5 points more"],
};

interface Shape {
  name: string;
  path: string;
  value: number;
  said: string;
  itemStyle: { color: string };
  label: { color: string };
  children?: Shape[];
}

function shapesOf(list: Area[], tint: Tint, inks: Record<Ink, string>): Shape[] {
  return list.map((a) => {
    const ink = scales[tint][stepOf(a, tint)] ?? "quiet";
    const change = a.change !== null && Math.abs(a.change) >= 0.0005 ? `, ${signed(a.change * 100)} points` : "";
    const shape: Shape = {
      name: a.name,
      path: a.path,
      value: a.value,
      said: `${percent(a.covered, a.value)} of ${counted(a.value, "line")}${change}`,
      itemStyle: { color: inks[ink] },
      label: { color: ink === "quiet" ? inks.ink : inks.paper },
    };
    return a.children ? { ...shape, children: shapesOf(a.children, tint, inks) } : shape;
  });
}

/** The files as areas: as large as their lines, tinted by how much of them is covered, or by what changed; the table below is its equal. */
export function Treemap({ files, onOpen }: { files: FileShare[]; onOpen: (file: string) => void }) {
  const [tint, setTint] = useState<Tint>("share");
  const height = Math.min(320, 110 + 14 * files.length);
  const { ref, width } = useElementSize();
  const box = useRef<HTMLDivElement>(null);
  const drawn = useRef<ECharts>(undefined);
  const press = useRef(onOpen);
  useEffect(() => {
    press.current = onOpen;
  });
  const scheme = useComputedColorScheme("light");
  const inks = palettes[scheme];
  const data = useMemo(() => shapesOf(areas(files), tint, inks), [files, tint, inks]);
  useEffect(() => {
    if (!box.current || width === 0) return;
    const made = drawn.current ?? init(box.current, undefined, { width, height });
    drawn.current = made;
    made.resize({ width, height });
    made.setOption(
      {
        animation: false,
        aria: { enabled: true, label: { description: `Coverage of ${files.length} files as areas; the table below says the same` } },
        tooltip: { backgroundColor: inks.paper, borderColor: inks.faint, textStyle: { color: inks.ink, fontSize: 12.5 }, renderMode: "richText", formatter: (at: { data: Shape }) => `${at.data.path}\n${at.data.said}` },
        series: [
          {
            type: "treemap", data, width: "100%", height, top: 0, left: 0, roam: false, nodeClick: false, breadcrumb: { show: false }, visibleMin: 40,
            label: { fontFamily: '"Schibsted Grotesk Variable", sans-serif', fontSize: 11.5, overflow: "truncate" },
            upperLabel: { show: true, height: 18, color: inks.ink, fontSize: 11.5 },
            itemStyle: { borderColor: inks.paper, borderWidth: 1, gapWidth: 1 },
            levels: [{ upperLabel: { show: false } }],
          },
        ],
      }, // prettier-ignore
      { notMerge: true },
    );
    const pressed = (at: { data?: unknown }) => {
      const shape = at.data as Shape | undefined;
      if (shape && !shape.children) press.current(shape.path);
    };
    made.on("click", pressed);
    return () => void made.off("click", pressed);
  }, [data, files.length, inks, width, height]);
  useEffect(
    () => () => {
      drawn.current?.dispose();
      drawn.current = undefined;
    },
    [],
  );
  return (
    <div className={classes.treemap}>
      <div className={classes.tools}>
        <span role="group" aria-label="Tint">
          {(["share", "change"] as const).map((t) => (
            <button key={t} type="button" className="plain" aria-pressed={tint === t} onClick={() => setTint(t)}>
              {t === "share" ? "by what is covered" : "by what changed"}
            </button>
          ))}
        </span>
        <span className={classes.scale}>
          {scales[tint].map((ink, i) => (
            <span key={ink}>
              <i style={{ background: inks[ink] }} /> {means[tint][i]}
            </span>
          ))}
        </span>
      </div>
      <div ref={ref} style={{ height }}>
        <div ref={box} style={{ height }} data-testid="treemap" />
      </div>
    </div>
  );
}
