import type { Finding } from "../api/client";
import classes from "./findings.module.css";

const picture = /\.(?:png|jpe?g|gif|webp|svg)$/i;

/** Files that the failed test names; a picture stands beside the one of the last passing run. */
export function Attachments({ finding }: { finding: Finding }) {
  if (finding.attachments.length === 0) return null;
  return (
    <div className={classes.attachments} data-testid="attachments">
      {finding.attachments.map((a) =>
        picture.test(a.path) ? (
          <figure key={a.report}>
            <figcaption>{a.path}</figcaption>
            <div>
              {a.before !== null && (
                <span>
                  <small>when it passed</small>
                  <img src={`/api/v1/reports/${a.before}/view`} alt={`${a.path} when the test passed last`} />
                </span>
              )}
              <span>
                <small>now</small>
                <img src={`/api/v1/reports/${a.report}/view`} alt={`${a.path} of this run`} />
              </span>
            </div>
          </figure>
        ) : (
          <a key={a.report} href={`/api/v1/reports/${a.report}/raw`}>
            {a.path}
          </a>
        ),
      )}
    </div>
  );
}
