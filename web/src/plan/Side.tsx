import { TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { proposalsQuery } from "../app/queries";
import { counted } from "../app/words";
import type { Proposal, Standing } from "../api/client";
import classes from "./plan.module.css";

interface Props {
  standing: Standing;
  text: string;
  pieces: { name: string; says: string; where: string }[];
  onTake: (text: string) => void;
  onInsert: (piece: string) => void;
}

/** What was detected in the repository, plans that would fit it, and pieces to put in. */
export function Side({ standing, text, pieces, onTake, onInsert }: Props) {
  const project = decodeURIComponent(window.location.pathname.split("/")[2] ?? "");
  const found = useQuery(proposalsQuery(project, standing.branch)).data;
  const [wanted, setWanted] = useState("");
  const low = wanted.trim().toLowerCase();
  const fits = (t: string) => !low || t.toLowerCase().includes(low);
  const proposals = (found?.proposals ?? []).filter((p) => fits(`${p.title} ${p.family}`));
  const listed = pieces.filter((p) => fits(`${p.name} ${p.says}`));
  return (
    <aside className={classes.side} aria-label="Detected and proposed">
      <TextInput size="xs" placeholder="Search proposals and pieces" aria-label="Search proposals and pieces" value={wanted} onChange={(e) => setWanted(e.currentTarget.value)} />
      <h2>Proposals</h2>
      {found && proposals.length === 0 && (
        <p className="soft">{low ? "None is called that." : found.files === 0 ? "The repository has no file yet." : `None: ${counted(found.files, "file")} and no sign of tests that are known here.`}</p>
      )}
      <ul className={classes.proposals}>
        {proposals.map((p) => (
          <ProposalRow key={p.title} proposal={p} taken={p.text === text} onTake={() => onTake(p.text)} />
        ))}
      </ul>
      {found && found.detected.length > 0 && !low && (
        <>
          <h2>Detected</h2>
          <ul className={classes.detected}>
            {found.detected.map((d) => (
              <li key={`${d.file}/${d.says}`} title={d.file}>
                <span>{d.says}</span>
                <code className="soft">{d.file.split("/").at(-1)}</code>
              </li>
            ))}
          </ul>
        </>
      )}
      <h2>Insert…</h2>
      <ul className={classes.pieces}>
        {listed.map((p) => (
          <li key={p.name}>
            <button type="button" className="plain" title={p.says} onClick={() => onInsert(p.name)}>
              {p.name}
            </button>
          </li>
        ))}
        {listed.length === 0 && <li className="soft">No piece is called that.</li>}
      </ul>
    </aside>
  );
}

function ProposalRow({ proposal, taken, onTake }: { proposal: Proposal; taken: boolean; onTake: () => void }) {
  return (
    <li>
      <button type="button" className={`plain ${classes.take ?? ""}`} disabled={taken} onClick={onTake}>
        {proposal.title}
        <span>{taken ? "taken" : "take"}</span>
      </button>
      <ul>
        {proposal.evidence.map((e) => (
          <li key={`${e.file}/${e.says}`}>
            <code>{e.file}</code> {e.says}
          </li>
        ))}
        {proposal.guesses.map((g) => (
          <li key={g} className={classes.guess}>
            <b>A guess:</b> {g}
          </li>
        ))}
      </ul>
    </li>
  );
}
