import { useQuery } from "@tanstack/react-query";
import type { Sizes } from "../api/client";
import { Awaited } from "../app/Awaited";
import { sizesQuery } from "../app/queries";
import { size } from "../app/words";
import classes from "./sizes.module.css";

/** What the server keeps, how large it is and how fast it grows. */
export function SizesPage() {
  const found = useQuery(sizesQuery);
  return (
    <div className={classes.page}>
      <Awaited of={found} what="The sizes" rows={8}>
        {(sizes) => <Told sizes={sizes} />}
      </Awaited>
    </div>
  );
}

export function Told({ sizes }: { sizes: Sizes }) {
  const most = Math.max(1, ...sizes.subjects.map((s) => s.bytes));
  const highest = Math.max(1, ...sizes.days.map((d) => d.bytes));
  return (
    <>
      <h1>{sizes.said}</h1>
      <p className="soft">Verdicts, totals and results are kept for ever; how long logs and files are, each project says in its settings.</p>
      <div className={classes.wide} tabIndex={0} role="region" aria-label="By what it is">
        <table>
          <tbody>
            {sizes.subjects.map((s) => (
              <tr key={s.what}>
                <th scope="row">{s.what}</th>
                <td className={classes.number}>{size(s.bytes)}</td>
                <td className={classes.bar}>
                  <i style={{ width: `${(100 * s.bytes) / most}%` }} />
                </td>
                <td className="soft">{growth(s.a_day)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {sizes.days.length > 1 && (
        <>
          <h2>All together, by day</h2>
          <ol className={classes.days}>
            {sizes.days.map((d) => (
              <li key={d.day} title={`${d.day}: ${size(d.bytes)}`}>
                <i style={{ height: `${Math.max(2, (100 * d.bytes) / highest)}%` }} />
                <span className={classes.read}>{`${d.day}: ${size(d.bytes)}`}</span>
              </li>
            ))}
          </ol>
        </>
      )}
      <h2>The largest tables</h2>
      <div className={classes.wide} tabIndex={0} role="region" aria-label="The largest tables">
        <table>
          <thead>
            <tr>
              <th scope="col">Table</th>
              <th scope="col">With its indexes</th>
              <th scope="col">Rows, about</th>
            </tr>
          </thead>
          <tbody>
            {sizes.tables.map((t) => (
              <tr key={t.name}>
                <th scope="row" className="mono">
                  {t.name}
                </th>
                <td className={classes.number}>{size(t.bytes)}</td>
                <td className={classes.number}>{t.rows.toLocaleString("en")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}

/** How a part grows, in words; nothing where that is not known. */
export function growth(aDay: number | null): string {
  if (aDay === null) return "";
  if (Math.abs(aDay) < 1) return "does not grow";
  return aDay > 0 ? `grows by ${size(Math.round(aDay))} a day` : `shrinks by ${size(Math.round(-aDay))} a day`;
}
