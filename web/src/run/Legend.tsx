import { useLocalStorage } from "@mantine/hooks";
import { StatusMark, VerdictMark } from "../marks/StatusMark";
import classes from "./run.module.css";

/** The marks that tell most, in one line under the strip, until the reader puts it away. */
export function Legend() {
  const [away, setAway] = useLocalStorage({ key: "myriant-legend-away", defaultValue: false, getInitialValueInEffect: false });
  if (away) return null;
  return (
    <span className={classes.legend} role="note" aria-label="Legend">
      <VerdictMark verdict="held" size={10} /> held
      <StatusMark mark="new" size={10} /> new failure
      <StatusMark mark="known" size={10} /> known
      <StatusMark mark="flaky" size={10} /> flaky
      <StatusMark mark="void" size={10} /> no result
      <button type="button" className="plain" onClick={() => setAway(true)} title="All marks stay under ?" aria-label="Put the legend away">
        ×
      </button>
    </span>
  );
}
