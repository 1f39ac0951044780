import classes from "./plan.module.css";

/** The draft against the plan that stands, what it asks less first. */
export function Difference({ lines, loosened }: { lines: string[]; loosened: string[] }) {
  if (lines.length === 0) return <p className={classes.quiet}>This is the plan as it stands: nothing differs.</p>;
  return (
    <>
      <Loosened lines={loosened} />
      <pre className={classes.difference} data-testid="difference">
        {lines.map((line, i) => (
          <div key={i} data-sign={line.startsWith("+") ? "+" : line.startsWith("-") ? "-" : line.startsWith("@") ? "@" : ""}>
            {line || " "}
          </div>
        ))}
      </pre>
    </>
  );
}

/** What a draft takes away from what the plan asks: said before it is saved, for its first run is held by it. */
export function Loosened({ lines }: { lines: string[] }) {
  if (lines.length === 0) return null;
  return (
    <div className={classes.loosened} data-testid="loosened">
      <p>It asks less than the plan that stands. Its first run is held until a maintainer accepts:</p>
      <ul>
        {lines.map((line) => (
          <li key={line}>{line}</li>
        ))}
      </ul>
    </div>
  );
}
