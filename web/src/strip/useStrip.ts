import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { historyQuery, stripQuery } from "../app/queries";
import { join, type Joined } from "./merge";

export interface StripData extends Joined {
  branch: string;
  /** Older runs exist; ask for them with `loadOlder`. */
  more: boolean;
  loading: boolean;
  loadOlder: () => void;
}

/** A branch's runs, oldest first: the live end, and history as far as it was asked for. */
export function useStrip(project: string, branch: string | undefined, known = true): { data: StripData | undefined; error: Error | null; again: () => void } {
  const recent = useQuery({ ...stripQuery(project, branch), enabled: known });
  const [asked, setAsked] = useState({ of: "", anchor: undefined as number | undefined });
  const name = `${project}/${recent.data?.branch ?? ""}`;
  const numbers = recent.data?.columns.map((c) => c.run.number) ?? [];
  const valid = asked.of === name && asked.anchor !== undefined && numbers.includes(asked.anchor);
  const anchor = valid ? asked.anchor : numbers[0];
  const history = useInfiniteQuery({ ...historyQuery(project, recent.data?.branch, anchor), enabled: valid });
  const joined = useMemo(() => recent.data && join(valid ? (history.data?.pages ?? []) : [], recent.data, anchor), [recent.data, history.data, anchor, valid]);
  const again = () => void recent.refetch();
  if (!recent.data || !joined) return { data: undefined, error: recent.error, again };
  const more = valid && history.data ? history.hasNextPage : recent.data.more;
  const loadOlder = () => {
    if (!more || history.isFetching) return;
    if (valid) void history.fetchNextPage();
    else setAsked({ of: name, anchor });
  };
  return { data: { ...joined, branch: recent.data.branch, more, loading: history.isFetching, loadOlder }, error: recent.error, again };
}
