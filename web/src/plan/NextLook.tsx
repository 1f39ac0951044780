import { useNow } from "../app/useNow";
import { ago } from "../app/words";

/** When the repository is looked at next, for a project without a hook. */
export function NextLook({ at }: { at: string | null }) {
  const now = useNow();
  if (!at) return <>its hook tells of every push at once</>;
  const seconds = Math.max(0, Math.round((Date.parse(at) - now) / 1000));
  return <>{seconds > 0 ? `it is looked at next in ${seconds} s` : `it is looked at now (due ${ago(at, now)})`}</>;
}
