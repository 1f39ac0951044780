import { useComputedColorScheme } from "@mantine/core";
import { useElementSize } from "@mantine/hooks";
import { BarChart, LineChart } from "echarts/charts";
import { AriaComponent, GridComponent, MarkLineComponent, TitleComponent, TooltipComponent } from "echarts/components";
import { init, use as register, type ECharts } from "echarts/core";
import { CanvasRenderer, SVGRenderer } from "echarts/renderers";
import { useEffect, useRef } from "react";
import { palettes } from "../marks/palette";
import { optionOf, type Chart, type TrendRun } from "./charts";

register([LineChart, BarChart, GridComponent, TooltipComponent, TitleComponent, MarkLineComponent, AriaComponent, CanvasRenderer, SVGRenderer]);

const MANY = 400; // runs from which a chart is painted, not built of elements

/** A chart as a file of its own, with its title. */
export async function drawnAs(form: "SVG" | "PNG", chart: Chart, runs: TrendRun[], scheme: "light" | "dark"): Promise<Blob> {
  const [width, height] = [1200, 420];
  const inks = palettes[scheme];
  const made = init(null, undefined, { renderer: "svg", ssr: true, width, height });
  const first = runs[0]?.number ?? 0;
  const title = { text: `${chart.title}: #${first} to #${runs.at(-1)?.number ?? first}`, left: 14, top: 8, textStyle: { fontSize: 15, color: inks.ink } };
  made.setOption({ ...optionOf(chart, runs, inks), title, backgroundColor: inks.paper, grid: { left: 74, right: 20, top: 44, bottom: 34 } });
  const drawn = made.renderToSVGString();
  made.dispose();
  const svg = new Blob([drawn], { type: "image/svg+xml" });
  if (form === "SVG") return svg;
  const picture = new Image(width, height);
  picture.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(drawn)}`;
  await picture.decode();
  const canvas = document.createElement("canvas");
  [canvas.width, canvas.height] = [2 * width, 2 * height];
  canvas.getContext("2d")?.drawImage(picture, 0, 0, canvas.width, canvas.height);
  return new Promise((done, fail) => canvas.toBlob((png) => (png ? done(png) : fail(new Error("the chart cannot be drawn as PNG"))), "image/png"));
}

/** A chart; a press on it opens the run under the pointer. */
export function Plot({ chart, runs, height, onRun }: { chart: Chart; runs: TrendRun[]; height: number; onRun: (run: number) => void }) {
  const { ref, width } = useElementSize();
  const box = useRef<HTMLDivElement>(null);
  const drawn = useRef<ECharts>(undefined);
  const painted = useRef<string>(undefined);
  const press = useRef(onRun);
  useEffect(() => {
    press.current = onRun;
  });
  const scheme = useComputedColorScheme("light");
  useEffect(() => {
    if (!box.current || width === 0) return;
    const renderer = runs.length > MANY ? "canvas" : "svg";
    if (drawn.current && painted.current !== renderer) {
      drawn.current.dispose();
      drawn.current = undefined;
    }
    const made = drawn.current ?? init(box.current, undefined, { renderer, width, height });
    drawn.current = made;
    painted.current = renderer;
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
