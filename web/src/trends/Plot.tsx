import { useComputedColorScheme } from "@mantine/core";
import { useElementSize } from "@mantine/hooks";
import { BarChart, LineChart } from "echarts/charts";
import { AriaComponent, GridComponent, MarkLineComponent, TooltipComponent } from "echarts/components";
import { init, use as register, type ECharts } from "echarts/core";
import { SVGRenderer } from "echarts/renderers";
import { useEffect, useRef } from "react";
import type { TrendRun } from "../api/client";
import { palettes } from "../marks/palette";
import { optionOf, type Chart } from "./charts";

register([LineChart, BarChart, GridComponent, TooltipComponent, MarkLineComponent, AriaComponent, SVGRenderer]);

/** A chart; a press on it opens the run under the pointer. */
export function Plot({ chart, runs, height, onRun }: { chart: Chart; runs: TrendRun[]; height: number; onRun: (run: number) => void }) {
  const { ref, width } = useElementSize();
  const box = useRef<HTMLDivElement>(null);
  const drawn = useRef<ECharts>(undefined);
  const press = useRef(onRun);
  useEffect(() => {
    press.current = onRun;
  });
  const scheme = useComputedColorScheme("light");
  useEffect(() => {
    if (!box.current || width === 0) return;
    const made = drawn.current ?? init(box.current, undefined, { renderer: "svg", width, height });
    drawn.current = made;
    made.resize({ width, height });
    made.setOption(optionOf(chart, runs, palettes[scheme]), { notMerge: true });
    const pressed = (event: { offsetX: number; offsetY: number }) => {
      const at = made.convertFromPixel({ gridIndex: 0 }, [event.offsetX, event.offsetY])[0];
      const run = at === undefined ? undefined : runs[Math.round(at)];
      if (run) press.current(run.number);
    };
    made.getZr().on("click", pressed);
    return () => made.getZr().off("click", pressed);
  }, [chart, runs, width, height, scheme]);
  useEffect(
    () => () => {
      drawn.current?.dispose();
      drawn.current = undefined;
    },
    [],
  );
  return (
    <div ref={ref} style={{ height }}>
      <div ref={box} style={{ height }} />
    </div>
  );
}
