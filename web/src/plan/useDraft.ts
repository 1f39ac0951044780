import { useLocalStorage } from "@mantine/hooks";
import type { Standing } from "../api/client";

interface Draft {
  text: string;
  /** The text and commit on which it was begun. */
  base: string;
  commit: string | null;
}

const keyOf = (project: string, branch: string) => `myriant-plan/${project}/${branch}`;

/** A draft that was made elsewhere, for the workbench to open with. */
export function keepDraft(project: string, branch: string, draft: Draft) {
  window.localStorage.setItem(keyOf(project, branch), JSON.stringify(draft));
}

/** The text that is being written: kept in the browser until it is saved, so that a reload loses nothing. */
export function useDraft(project: string, standing: Standing | undefined) {
  const [draft, setDraft, forget] = useLocalStorage<Draft | null>({ key: keyOf(project, standing?.branch ?? ""), defaultValue: null, getInitialValueInEffect: false });
  const text = draft?.text ?? standing?.text ?? "";
  return {
    text,
    changed: draft !== null && draft.text !== (standing?.text ?? ""),
    /** The repository moved on since the draft was begun. */
    stale: draft !== null && standing !== undefined && draft.base !== standing.text && draft.text !== standing.text,
    expected: draft ? draft.commit : (standing?.commit ?? null),
    write: (next: string) =>
      setDraft((before) => ({ text: next, base: before?.base ?? standing?.text ?? "", commit: before ? before.commit : (standing?.commit ?? null) })),
    forget,
  };
}
