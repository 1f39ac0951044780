import type { DragEvent } from "react";
import { shows, type Show } from "../app/address";
import classes from "./matrix.module.css";

export type Place = "columns" | "rows" | "tables";
const places: { id: Place; title: string }[] = [
  { id: "rows", title: "Rows" },
  { id: "columns", title: "Columns" },
  { id: "tables", title: "One table per value" },
];

interface Props {
  arrangement: Record<Place, string[]>;
  show: Show;
  onMove: (dimension: string, to: Place) => void;
  onShow: (show: Show) => void;
}

/** Dimensions as chips: dragged to where they shall stand, or moved by the arrow keys. */
export function Arrange({ arrangement, show, onMove, onShow }: Props) {
  const dropped = (to: Place) => (event: DragEvent) => {
    event.preventDefault();
    const dimension = event.dataTransfer.getData("text/plain");
    if (dimension) onMove(dimension, to);
  };
  return (
    <div className={classes.arrange}>
      {places.map(({ id, title }, at) => (
        <div key={id} className={classes.place} onDragOver={(e) => e.preventDefault()} onDrop={dropped(id)} role="group" aria-label={title}>
          <span className="soft">{title}</span>
          {arrangement[id].map((dimension) => (
            <button
              key={dimension}
              type="button"
              draggable
              className={`plain ${classes.chip ?? ""}`}
              title="Drag it, or move it with the left and right arrow keys"
              aria-label={`${dimension}: ${title}`}
              onDragStart={(e) => e.dataTransfer.setData("text/plain", dimension)}
              onKeyDown={(e) => {
                const to = places[at + (e.key === "ArrowRight" ? 1 : e.key === "ArrowLeft" ? -1 : 9)];
                if (!to) return;
                e.stopPropagation();
                e.preventDefault();
                onMove(dimension, to.id);
              }}
            >
              {dimension}
            </button>
          ))}
        </div>
      ))}
      <div className={classes.place} role="radiogroup" aria-label="Show">
        <span className="soft">Show</span>
        {shows.map((s) => (
          <button key={s} type="button" role="radio" aria-checked={s === show} className={`plain ${classes.option ?? ""}`} onClick={() => onShow(s)}>
            {s}
          </button>
        ))}
      </div>
    </div>
  );
}
