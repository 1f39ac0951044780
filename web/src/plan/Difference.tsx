import classes from "./plan.module.css";

/** The draft against the plan that stands. */
export function Difference({ lines }: { lines: string[] }) {
  if (lines.length === 0) return <p className={classes.quiet}>This is the plan as it stands: nothing differs.</p>;
  return (
    <pre className={classes.difference} data-testid="difference">
      {lines.map((line, i) => (
        <div key={i} data-sign={line.startsWith("+") ? "+" : line.startsWith("-") ? "-" : line.startsWith("@") ? "@" : ""}>
          {line || " "}
        </div>
      ))}
    </pre>
  );
}
