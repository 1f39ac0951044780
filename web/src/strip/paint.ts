/** Drawing the strip on a canvas from small pictures of each mark, made once for a theme and density. */
import type { Column, Lane } from "../api/client";
import { palettes, type Ink } from "../marks/palette";
import { shapeOf, verdictShape, type Mark, type Piece } from "../marks/shapes";
import { COLUMN, COVERAGE, FOOT, GAP_COLUMN, spots, TOP } from "./layout";

export type Scheme = "light" | "dark";

export interface Scene {
  columns: Column[];
  lanes: Lane[];
  left: number[];
  selected: number | undefined;
  base: number | undefined;
  hovered: number | undefined;
  scroll: number;
  width: number;
  height: number;
}

function drawPieces(ctx: CanvasRenderingContext2D, pieces: Piece[], inks: Record<Ink, string>) {
  for (const piece of pieces) {
    const path = new Path2D(piece.d);
    if (piece.fill) {
      ctx.fillStyle = inks[piece.fill];
      ctx.fill(path);
    }
    if (piece.stroke) {
      ctx.strokeStyle = inks[piece.stroke];
      ctx.lineWidth = piece.width ?? 1;
      ctx.setLineDash(piece.dash ?? []);
      ctx.stroke(path);
      ctx.setLineDash([]);
    }
  }
}

/** Whole columns drawn once and kept: scrolling then only copies pictures. */
export class Painter {
  private pictures = new Map<string, HTMLCanvasElement>();
  private inks: Record<Ink, string>;
  private top: number;

  constructor(
    readonly scheme: Scheme,
    readonly ratio: number,
    readonly height: number,
    readonly withCoverage: boolean,
  ) {
    this.top = withCoverage ? TOP + COVERAGE : TOP;
    this.inks = palettes[scheme];
  }

  /** Drop the pictures: the lanes have changed. */
  forget(): void {
    this.pictures.clear();
  }

  /** Draw what is in view; only columns under the viewport are touched. */
  paint(ctx: CanvasRenderingContext2D, scene: Scene): void {
    const { columns, left, scroll, width, height } = scene;
    ctx.setTransform(this.ratio, 0, 0, this.ratio, 0, 0);
    ctx.fillStyle = this.inks.paper;
    ctx.fillRect(0, 0, width, height);
    let first = 0;
    while (first < columns.length && (left[first] ?? 0) + COLUMN < scroll) first++;
    let labelled = -Infinity;
    for (let i = first; i < columns.length; i++) {
      const column = columns[i];
      const x = (left[i] ?? 0) - scroll;
      if (!column || x > width) break;
      this.ground(ctx, scene, i, x);
      const picture = this.column(scene.lanes, column);
      ctx.drawImage(picture, x, 0, COLUMN, height);
      if (column.gap > 0) this.gap(ctx, x - GAP_COLUMN, height);
      if (startsDay(columns, i)) labelled = this.day(ctx, column.run.at, x, labelled);
      if (i === scene.base) this.base(ctx, x);
    }
    if (this.withCoverage) this.coverage(ctx, scene, first);
  }

  /** Line coverage as a thin line across the top, scaled to what is in view. */
  private coverage(ctx: CanvasRenderingContext2D, scene: Scene, first: number) {
    const inView = scene.columns.slice(first, first + Math.ceil(scene.width / COLUMN) + 1);
    const known = inView.map((c) => c.coverage).filter((c): c is number => c !== null);
    const [low, high] = [Math.min(...known), Math.max(...known)];
    ctx.strokeStyle = this.inks.ochre;
    ctx.lineWidth = 1.5;
    ctx.beginPath();
    let drawing = false;
    inView.forEach((column, i) => {
      if (column.coverage === null) return;
      const share = high > low ? (column.coverage - low) / (high - low) : 0.5;
      const left = (scene.left[first + i] ?? 0) - scene.scroll + 8;
      const top = TOP + COVERAGE - 4 - share * (COVERAGE - 6);
      if (drawing) ctx.lineTo(left, top);
      else ctx.moveTo(left, top);
      drawing = true;
    });
    ctx.stroke();
  }

  private ground(ctx: CanvasRenderingContext2D, scene: Scene, i: number, x: number) {
    if (i === scene.selected) {
      ctx.fillStyle = this.inks.wash;
      ctx.fillRect(x - 1, 0, COLUMN, scene.height);
      ctx.fillStyle = this.inks.accent;
      ctx.fillRect(x - 1, scene.height - 2, COLUMN, 2);
    } else if (i === scene.hovered) {
      ctx.fillStyle = this.inks.wash;
      ctx.fillRect(x - 1, TOP - 3, COLUMN, scene.height);
    }
  }

  private column(lanes: Lane[], column: Column): HTMLCanvasElement {
    const key = `${column.marks}/${column.run.word}`;
    const known = this.pictures.get(key);
    if (known) return known;
    const picture = document.createElement("canvas");
    picture.width = COLUMN * this.ratio;
    picture.height = this.height * this.ratio;
    const ctx = picture.getContext("2d");
    if (ctx) {
      for (const spot of spots(lanes, column.marks, this.height, this.top)) {
        const scale = spot.advisory ? 2 / 3 : 1;
        const [w, h] = [spot.w * scale, spot.h * scale];
        ctx.setTransform(this.ratio, 0, 0, this.ratio, (spot.x + (spot.w - w) / 2) * this.ratio, (spot.y + (spot.h - h) / 2) * this.ratio);
        drawPieces(ctx, markPieces(spot.mark, w, h), this.inks);
      }
      ctx.setTransform(this.ratio, 0, 0, this.ratio, this.ratio, (this.height - FOOT + 3) * this.ratio);
      drawPieces(ctx, verdictShape(column.run.word, 15, 6), this.inks);
    }
    if (this.pictures.size > 4000) this.pictures.clear();
    this.pictures.set(key, picture);
    return picture;
  }

  private gap(ctx: CanvasRenderingContext2D, left: number, height: number) {
    ctx.strokeStyle = this.inks.faint;
    ctx.lineWidth = 1;
    ctx.setLineDash([1, 3]);
    ctx.beginPath();
    ctx.moveTo(left + 2.5, TOP);
    ctx.lineTo(left + 2.5, height - FOOT);
    ctx.stroke();
    ctx.setLineDash([]);
  }

  private day(ctx: CanvasRenderingContext2D, at: string, x: number, labelled: number): number {
    ctx.fillStyle = this.inks.faint;
    if (x - labelled < 48) {
      ctx.fillRect(x, TOP - 4, 1, 3);
      return labelled;
    }
    ctx.fillRect(x, 2, 1, 9);
    ctx.font = '10.5px "Schibsted Grotesk Variable", sans-serif';
    ctx.fillText(new Date(at).toLocaleDateString("en-GB", { day: "numeric", month: "short" }), x + 4, 10);
    return x;
  }

  private base(ctx: CanvasRenderingContext2D, left: number) {
    ctx.fillStyle = this.inks.accent;
    ctx.beginPath();
    ctx.moveTo(left + 3, TOP - 1);
    ctx.lineTo(left + 13, TOP - 1);
    ctx.lineTo(left + 8, TOP - 8);
    ctx.fill();
  }
}

const cached = new Map<string, Piece[]>();
function markPieces(mark: Mark, w: number, h: number): Piece[] {
  const key = `${mark}/${w}/${h}`;
  let pieces = cached.get(key);
  if (!pieces) cached.set(key, (pieces = shapeOf(mark, w, h)));
  return pieces;
}

function startsDay(columns: Column[], i: number): boolean {
  const day = columns[i]?.run.at.slice(0, 10);
  return i === 0 || columns[i - 1]?.run.at.slice(0, 10) !== day;
}
