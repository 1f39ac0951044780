import { Button, Checkbox, Select, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken, type Rule, type Run } from "../api/client";
import { keys } from "../app/queries";
import classes from "./run.module.css";

const spans = [
  { value: "3", label: "for three days" },
  { value: "7", label: "for a week" },
  { value: "14", label: "for two weeks" },
  { value: "30", label: "for a month" },
  { value: "90", label: "for three months" },
];

/** A rule of the plan that need not hold for a time, with the reason, down to the value it has here. */
export function WaiveIt({ rule, run, onDone }: { rule: Rule; run: Run; onDone: () => void }) {
  const client = useQueryClient();
  const [reason, setReason] = useState("");
  const [days, setDays] = useState("14");
  const [everywhere, setEverywhere] = useState(false);
  const waive = useMutation({
    mutationFn: () => {
      const until = new Date(Date.now() + Number(days) * 86_400_000).toISOString();
      const path = { project: run.project, number: run.run.number };
      return taken(api.POST("/api/v1/projects/{project}/runs/{number}/waivers", { params: { path }, body: { rule: rule.name, reason, until, everywhere } }));
    },
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: keys.run(run.project) });
      await client.invalidateQueries({ queryKey: keys.waivers(run.project) });
      onDone();
    },
  });
  return (
    <form
      className={classes.waiving}
      aria-label={`Waive ${rule.name}`}
      onSubmit={(e) => {
        e.preventDefault();
        waive.mutate();
      }}
    >
      <p className="soft">
        Down to {rule.value}, and no worse, it holds nothing {everywhere ? "anywhere" : `on ${run.run.branch}`} until then; everybody sees that, with your name and this reason.
      </p>
      <TextInput size="xs" label="It need not hold, because" value={reason} onChange={(e) => setReason(e.currentTarget.value)} />
      <Select size="xs" label="End" data={spans} value={days} onChange={(v) => setDays(v ?? "14")} allowDeselect={false} />
      <Checkbox size="xs" label="on every branch and pull request" checked={everywhere} onChange={(e) => setEverywhere(e.currentTarget.checked)} />
      <Button size="compact-xs" type="submit" disabled={!reason.trim()} loading={waive.isPending}>
        Waive it
      </Button>
      {waive.error && <span role="alert">{waive.error.message}</span>}
    </form>
  );
}
