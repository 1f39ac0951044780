import "@mantine/core/styles/FloatingIndicator.css";
import "@mantine/core/styles/SegmentedControl.css";
import { Button, SegmentedControl, TextInput } from "@mantine/core";
import { useClipboard } from "@mantine/hooks";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, taken } from "../api/client";
import classes from "./settings.module.css";

const whats = [
  { value: "verdict", label: "verdict" },
  { value: "tests", label: "tests" },
  { value: "coverage", label: "coverage" },
];

/** The text that shows a badge in one of the usual markups. */
export function markup(form: string, image: string, page: string, name: string): string {
  switch (form) {
    case "HTML":
      return `<a href="${page}"><img src="${image}" alt="${name}"></a>`;
    case "AsciiDoc":
      return `image:${image}["${name}", link="${page}"]`;
    case "reST":
      return `.. image:: ${image}\n   :target: ${page}\n   :alt: ${name}`;
    default:
      return `[![${name}](${image})](${page})`;
  }
}

/** Badges of any branch, as they look now, to be copied into a text; each leads to the run that it speaks of. */
export function Badges({ project }: { project: string }) {
  const [what, setWhat] = useState("verdict");
  const [branch, setBranch] = useState("");
  const clipboard = useClipboard();
  const key = useMutation({ mutationFn: () => taken(api.POST("/api/v1/projects/{project}/badge-key", { params: { path: { project } } })) });
  const origin = window.location.origin;
  const query = branch ? `?branch=${encodeURIComponent(branch)}` : "";
  const image = key.data ? `${origin}/api/v1/badges/${key.data.key}/${what}.svg${query}` : "";
  const page = `${origin}/p/${encodeURIComponent(project)}${query}`;
  return (
    <section aria-label="Badges">
      <h2>Badges</h2>
      <p className="soft">A small picture for a README that says how a branch stands now. Who has its address sees it without signing in.</p>
      {!key.data ? (
        <Button size="compact-xs" variant="default" loading={key.isPending} onClick={() => key.mutate()}>
          Show its address
        </Button>
      ) : (
        <>
          <div className={classes.fields}>
            <SegmentedControl size="xs" data={whats} value={what} onChange={setWhat} aria-label="What the badge says" />
            <TextInput size="xs" aria-label="Branch of the badge" placeholder="the main branch" value={branch} onChange={(e) => setBranch(e.currentTarget.value)} />
            <img src={image} height={20} alt={`Badge: ${what} of ${branch || "the main branch"}`} />
          </div>
          <p className={classes.copies}>
            Copy as{" "}
            {["Markdown", "HTML", "AsciiDoc", "reST"].map((form) => (
              <button key={form} type="button" className="plain" onClick={() => clipboard.copy(markup(form, image, page, project))}>
                {form}
              </button>
            ))}
            {clipboard.copied && <span className="soft">copied</span>}
          </p>
          <p>
            By the same key: its outcomes as <a href={`${origin}/api/v1/feeds/${key.data.key}.atom${query}`}>an Atom feed</a>, its schedules as <a href={`${origin}/api/v1/feeds/${key.data.key}.ics`}>a calendar</a>.
          </p>
        </>
      )}
      {key.error && <p role="alert">{key.error.message}</p>}
    </section>
  );
}
