import { Button, Select, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { counted } from "../app/words";
import { api, taken } from "../api/client";
import classes from "./findings.module.css";
import { keys } from "../app/queries";

const spans = [
  { value: "7", label: "for a week" },
  { value: "14", label: "for two weeks" },
  { value: "30", label: "for a month" },
  { value: "90", label: "for three months" },
];

/** Quarantine with reason, owner and end. */
export function SetAside({ project, tests, onDone }: { project: string; tests: { test: number; title: string }[]; onDone: () => void }) {
  const client = useQueryClient();
  const [reason, setReason] = useState("");
  const [owner, setOwner] = useState("");
  const [days, setDays] = useState<string | null>("14");
  const keep = useMutation({
    mutationFn: () => {
      const until = new Date(Date.now() + Number(days ?? 14) * 86_400_000).toISOString();
      const body = { tests: tests.map((t) => t.test), reason, owner, until };
      return taken(api.POST("/api/v1/projects/{project}/quarantines", { params: { path: { project } }, body }));
    },
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: keys.flaky(project) });
      void client.invalidateQueries({ queryKey: keys.run(project) });
      onDone();
    },
  });
  return (
    <form
      className={classes.aside}
      onSubmit={(event) => {
        event.preventDefault();
        keep.mutate();
      }}
    >
      <p className="soft">
        {tests.length === 1 ? "Its failures" : `Failures of ${counted(tests.length, "test")}`} are recorded and hold nothing from the next judgement on, until the end or until they prove steady.
      </p>
      <TextInput size="xs" label="Reason" value={reason} onChange={(e) => setReason(e.currentTarget.value)} required />
      <TextInput size="xs" label="Owner" placeholder="you" value={owner} onChange={(e) => setOwner(e.currentTarget.value)} />
      <Select size="xs" label="End" data={spans} value={days} onChange={setDays} allowDeselect={false} />
      <Button size="compact-xs" type="submit" loading={keep.isPending}>
        Quarantine
      </Button>
      {keep.error && <p>{keep.error.message}</p>}
    </form>
  );
}
