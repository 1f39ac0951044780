import { lazy, Suspense, useState } from "react";

const ByHandForm = lazy(() => import("./ByHandForm").then((m) => ({ default: m.ByHandForm })));

/** The way to a run by hand. */
export function ByHand({ project, branch }: { project: string; branch: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button type="button" className="plain" onClick={() => setOpen(true)}>
        Run by hand…
      </button>
      <Suspense fallback={null}>{open && <ByHandForm project={project} branch={branch} onDone={() => setOpen(false)} />}</Suspense>
    </>
  );
}
