import "@mantine/core/styles/Overlay.css";
import "@mantine/core/styles/ModalBase.css";
import "@mantine/core/styles/Modal.css";
import { Autocomplete, Button, Modal, Textarea } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, taken, type Meaning, type Standing } from "../api/client";
import { usePlanAddress } from "./address";
import { Loosened } from "./Difference";
import { NextLook } from "./NextLook";
import classes from "./plan.module.css";
import { keys } from "../app/queries";

interface Props {
  opened: boolean;
  onClose: () => void;
  standing: Standing;
  text: string;
  expected: string | null;
  meaning: Meaning | undefined;
  onSaved: () => void;
}

/** Save as a commit on a chosen or new branch, with or without starting; or keep it on the server. */
export function SavePlan({ opened, onClose, standing, text, expected, meaning, onSaved }: Props) {
  const [address] = usePlanAddress();
  const client = useQueryClient();
  const navigate = useNavigate();
  const [branch, setBranch] = useState(standing.branch);
  const [message, setMessage] = useState(standing.origin === "repository" ? "Change the test plan" : "Add the test plan");
  const done = async () => {
    onSaved();
    await Promise.all([keys.standing(), keys.proposals(), keys.coming(), keys.projects()].map((k) => client.invalidateQueries({ queryKey: k })));
    onClose();
  };
  const save = useMutation({
    mutationFn: ({ start, ask = false }: { start: boolean; ask?: boolean }) =>
      taken(
        api.POST("/api/v1/projects/{project}/plan/commits", {
          params: { path: { project: address.project } },
          body: { text, branch, message, start, ask, expected: branch === standing.branch ? expected : null },
        }),
      ),
    onSuccess: async (saved, { start, ask = false }) => {
      await done();
      if (ask) await navigate(`/p/${address.project}/pulls`);
      else if (start) await navigate(`/p/${address.project}${branch === standing.main_branch ? "" : `?branch=${encodeURIComponent(saved.branch)}`}`);
    },
  });
  const keep = useMutation({
    mutationFn: () => api.PUT("/api/v1/projects/{project}/plan", { params: { path: { project: address.project } }, body: { text } }),
    onSuccess: done,
  });
  const fresh = !standing.branches.includes(branch);
  const error = save.error ?? keep.error;
  return (
    <Modal opened={opened} onClose={onClose} title="Save the test plan" size={560} yOffset="10vh" shadow="none">
      <div className={classes.save}>
        <Autocomplete label="On the branch" data={standing.branches} value={branch} onChange={setBranch} description={fresh ? (standing.empty ? "a first commit" : `a new branch, from ${standing.main_branch}`) : "an existing branch"} />
        <Textarea label="With the message" autosize minRows={1} value={message} onChange={(e) => setMessage(e.currentTarget.value)} />
        <p>{meaning?.usable === false ? "This plan has errors: it can be saved without starting, and every push would be held." : (meaning?.rehearsal?.sentence ?? "")}</p>
        <Loosened lines={meaning?.loosened ?? []} />
        {error && (
          <p className={classes.stuck} role="alert">
            {error.message}
          </p>
        )}
        <div className={classes.buttons}>
          <Button loading={save.isPending} disabled={meaning?.usable === false} onClick={() => save.mutate({ start: true })}>
            Save and start
          </Button>
          <Button variant="default" loading={save.isPending} onClick={() => save.mutate({ start: false })}>
            Save without starting
          </Button>
          {branch !== standing.main_branch && !standing.empty && (
            <Button variant="default" loading={save.isPending} disabled={meaning?.usable === false} onClick={() => save.mutate({ start: true, ask: true })}>
              Save as a pull request
            </Button>
          )}
          {standing.origin !== "repository" && (
            <Button variant="subtle" loading={keep.isPending} disabled={meaning?.usable === false} title="It serves until the repository has a plan of its own" onClick={() => keep.mutate()}>
              Keep on the server only
            </Button>
          )}
        </div>
        <p className="soft">
          For later pushes, <NextLook at={standing.next_look ?? null} />.
        </p>
      </div>
    </Modal>
  );
}
