import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api } from "../api/client";
import { keys, cachesQuery } from "../app/queries";
import { Loading, Trouble } from "../app/Awaited";
import { useNow } from "../app/useNow";
import { ago, counted, exact, size } from "../app/words";
import { Twice } from "./Twice";
import classes from "./settings.module.css";

/** Archives that later attempts begin with. */
export function Caches({ project }: { project: string }) {
  const asked = useQuery(cachesQuery(project));
  const caches = asked.data;
  const client = useQueryClient();
  const now = useNow();
  const forget = useMutation({
    mutationFn: (entry: number | undefined) => api.DELETE("/api/v1/projects/{project}/caches", { params: { path: { project }, query: { entry } } }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.caches(project) }),
  });
  if (!caches) return asked.error ? <Trouble what="The list of caches" error={asked.error} onAgain={() => void asked.refetch()} /> : <Loading what="The list of caches" />;
  return (
    <section aria-label="Caches">
      <h2>Caches</h2>
      {caches.length === 0 ? (
        <p className="soft">Nothing is kept. A job that names a cache in its plan saves it when an attempt passes.</p>
      ) : (
        <p className="soft">
          {counted(caches.length, "archive")}, {size(caches.reduce((n, c) => n + c.size, 0))}; those least used go first when there are too many.{" "}
          <Twice what="Forget all caches" lost="the next attempts build them anew" onDo={() => forget.mutate(undefined)}>
            Forget all
          </Twice>
        </p>
      )}
      {forget.error && (
        <p role="alert" className={classes.trouble}>
          {forget.error.message}
        </p>
      )}
      {caches.length > 0 && (
        <table className={classes.table}>
          <thead>
            <tr>
              <th scope="col">Cache</th>
              <th scope="col">For</th>
              <th scope="col">Given to runs of</th>
              <th scope="col">Size</th>
              <th scope="col">Used</th>
            </tr>
          </thead>
          <tbody>
            {caches.map((c) => (
              <tr key={c.id}>
                <td>{c.name}</td>
                <td>
                  {c.job}
                  {Object.entries(c.runtimes).map(([f, v]) => `, ${f} ${v}`)}
                </td>
                <td>{c.scope}</td>
                <td>{size(c.size)}</td>
                <td title={exact(c.used_at)}>
                  {c.uses === 0 ? "not yet" : `${counted(c.uses, "time")}, last ${ago(c.used_at, now)}`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
