import { memo } from "react";
import { markNames, shapeOf, verdictNames, verdictShape, type Mark, type Piece, type Verdict } from "./shapes";

function Pieces({ pieces }: { pieces: Piece[] }) {
  return pieces.map((p, i) => (
    <path
      key={i}
      d={p.d}
      fill={p.fill ? `var(--${p.fill})` : "none"}
      stroke={p.stroke ? `var(--${p.stroke})` : "none"}
      strokeWidth={p.width}
      strokeDasharray={p.dash?.join(" ")}
    />
  ));
}

interface Props {
  mark: Mark;
  size?: number;
  advisory?: boolean;
  done?: number;
  label?: string;
}

/** The one component that draws the state of a cell or test; advisory ones are drawn inset. */
export const StatusMark = memo(function StatusMark({ mark, size = 12, advisory = false, done, label }: Props) {
  const inner = advisory ? (size * 2) / 3 : size;
  const shift = (size - inner) / 2;
  return (
    <svg width={size} height={size} viewBox={`0 0 ${size} ${size}`} {...(label === "" ? { "aria-hidden": true } : { role: "img", "aria-label": label ?? markNames[mark] })} style={{ flex: "none" }}>
      {label !== "" && <title>{label ?? markNames[mark]}</title>}
      <g transform={`translate(${shift} ${shift})`}>
        <Pieces pieces={shapeOf(mark, inner, inner, done)} />
      </g>
    </svg>
  );
});

/** A verdict's foot-mark. */
export const VerdictMark = memo(function VerdictMark({ verdict, size = 12 }: { verdict: Verdict; size?: number }) {
  return (
    <svg width={size} height={size} viewBox={`0 0 ${size} ${size}`} role="img" aria-label={verdictNames[verdict]} style={{ flex: "none" }}>
      <Pieces pieces={verdictShape(verdict, size, size)} />
    </svg>
  );
});
