import { acceptCompletion, autocompletion, completionStatus, type CompletionContext, type CompletionResult } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { HighlightStyle, StreamLanguage, bracketMatching, syntaxHighlighting } from "@codemirror/language";
import { toml } from "@codemirror/legacy-modes/mode/toml";
import { lintGutter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { Annotation, EditorState, type Text } from "@codemirror/state";
import { EditorView, drawSelection, highlightActiveLine, highlightActiveLineGutter, hoverTooltip, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import type { PlanProblem } from "../api/client";
import { contextAt, offersAt, type Known } from "./context";
import { changesOf } from "./edits";

const fromOutside = Annotation.define<boolean>();

const colours = HighlightStyle.define([
  { tag: tags.comment, color: "var(--soft)", fontStyle: "italic" },
  { tag: tags.string, color: "var(--teal)" },
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--ink)" },
  { tag: [tags.atom, tags.bool, tags.number], color: "var(--accent)" },
  { tag: [tags.heading, tags.keyword, tags.bracket, tags.squareBracket], color: "var(--ink)", fontWeight: "650" },
]);

const look = EditorView.theme({
  "&": { height: "100%", fontSize: "12.5px", backgroundColor: "var(--paper)", color: "var(--ink)" },
  ".cm-scroller": { fontFamily: '"Spline Sans Mono Variable", ui-monospace, monospace', lineHeight: "1.5" },
  ".cm-gutters": { backgroundColor: "var(--paper)", color: "var(--soft)", borderRight: "1px solid var(--rule)" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "var(--wash)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": { backgroundColor: "var(--wash) !important" },
  ".cm-tooltip": { backgroundColor: "var(--raised)", color: "var(--ink)", border: "1px solid var(--rule)", borderRadius: "3px", maxWidth: "420px" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--accent)", color: "var(--paper)" },
  ".cm-diagnostic": { borderLeftWidth: "3px" },
  ".cm-diagnostic-error": { borderLeftColor: "var(--vermilion)" },
  ".cm-diagnostic-warning": { borderLeftColor: "var(--ochre)" },
  ".cm-diagnosticAction": { backgroundColor: "var(--accent)", color: "var(--paper)", borderRadius: "3px", padding: "1px 6px" },
  ".cm-gutter-lint": { width: "8px" },
  ".cm-gutter-lint .cm-gutterElement": { padding: "0 2px" },
  ".cm-lint-marker": { width: "3px", height: "1.3em", content: "none !important", borderRadius: "1px" },
  ".cm-lint-marker-error": { backgroundColor: "var(--vermilion)" },
  ".cm-lint-marker-warning": { backgroundColor: "var(--ochre)" },
  ".cm-lintRange-error": { backgroundImage: "none", textDecoration: "underline wavy var(--vermilion) 1px" },
  ".cm-lintRange-warning": { backgroundImage: "none", textDecoration: "underline wavy var(--ochre) 1px" },
});

interface Props {
  text: string;
  problems: PlanProblem[];
  known: Known | undefined;
  line: number | undefined;
  onChange: (text: string) => void;
  onLine: (line: number) => void;
}

/** The plan's text: completion, hover help, and problems where they stand, each with its repair. */
export function Editor({ text, problems, known, line, onChange, onLine }: Props) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const told = useRef({ known, onChange, onLine });
  useEffect(() => {
    told.current = { known, onChange, onLine };
  });
  useEffect(() => {
    if (!host.current) return;
    const made = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          lineNumbers(), highlightActiveLineGutter(), highlightActiveLine(), history(), drawSelection(), bracketMatching(), lintGutter(),
          StreamLanguage.define(toml), syntaxHighlighting(colours), look, EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": "Text of the test plan" }),
          autocompletion({ override: [(c) => complete(c, told.current.known)] }),
          hoverTooltip((v, at) => help(v.state.doc, at, told.current.known)),
          keymap.of([{ key: "Tab", run: (v) => (completionStatus(v.state) === "active" ? acceptCompletion(v) : false) }, indentWithTab, ...historyKeymap, ...defaultKeymap]),
          EditorView.updateListener.of((update) => {
            if (update.docChanged && !update.transactions.some((t) => t.annotation(fromOutside))) told.current.onChange(update.state.doc.toString());
            if (update.selectionSet) told.current.onLine(update.state.doc.lineAt(update.state.selection.main.head).number);
          }),
        ], // prettier-ignore
      }),
    });
    made.scrollDOM.tabIndex = 0; // scrolled by keyboard alone
    view.current = made;
    return () => made.destroy();
    // the text is kept in step below
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);
  useEffect(() => {
    const v = view.current;
    if (!v || v.state.doc.toString() === text) return;
    v.dispatch({ changes: changesOf(v.state.doc.toString(), text), annotations: fromOutside.of(true) });
  }, [text]);
  useEffect(() => {
    const v = view.current;
    if (v) v.dispatch(setDiagnostics(v.state, problems.map((p) => diagnostic(p, v.state.doc))));
  }, [problems, text]);
  useEffect(() => {
    const v = view.current;
    if (!v || line === undefined || line > v.state.doc.lines) return;
    const at = v.state.doc.line(line).from;
    if (v.state.doc.lineAt(v.state.selection.main.head).number !== line) v.dispatch({ selection: { anchor: at } });
    v.dispatch({ effects: EditorView.scrollIntoView(at, { y: "center" }) });
  }, [line]);
  return <div ref={host} style={{ height: "100%", minHeight: 0 }} data-testid="editor" />;
}

function place(doc: Text, line: number, column: number): number {
  const at = doc.line(Math.min(Math.max(line, 1), doc.lines));
  return Math.min(at.from + column - 1, at.to);
}

function diagnostic(p: PlanProblem, doc: Text): Diagnostic {
  const from = place(doc, p.line, p.column);
  const to = Math.min(doc.lineAt(from).to, from + Math.max(1, p.text.length));
  const edits = p.edits ?? [];
  return {
    from,
    to: Math.max(from, to),
    severity: p.level === "error" ? "error" : "warning",
    message: edits.length ? p.message : `${p.message}: ${p.mend}`,
    actions: edits.length
      ? [
          {
            name: repairName(p),
            apply: (v) =>
              v.dispatch({
                changes: edits.map((e) => ({ from: spot(v.state.doc, e.line, e.column), to: spot(v.state.doc, e.end_line, e.end_column), insert: e.text })),
              }),
          },
        ]
      : [],
  };
}

/** A place of an edit: one line behind the end is the end. */
const spot = (doc: Text, line: number, column: number) => (line > doc.lines ? doc.length : place(doc, line, column));

export const repairName = (p: PlanProblem) => p.mend.replace(/^did you mean (.*)\?$/, "write $1");

function complete(c: CompletionContext, known: Known | undefined): CompletionResult | null {
  if (!known) return null;
  const before = c.matchBefore(/[\w.:*/-]*/);
  if (!before || (before.from === before.to && !c.explicit)) return null;
  const offers = offersAt(c.state.doc.toString(), before.from, known);
  if (offers.length === 0) return null;
  return { from: before.from, options: offers.map((o) => ({ label: o.label, detail: o.detail, info: o.info || undefined, apply: o.insert })), validFor: /^[\w.:*/-]*$/ };
}

function help(doc: Text, at: number, known: Known | undefined) {
  if (!known) return null;
  const line = doc.lineAt(at);
  for (const found of line.text.matchAll(/[A-Za-z][\w-]*/g)) {
    const from = line.from + found.index;
    if (at < from || at > from + found[0].length) continue;
    const context = contextAt(doc.toString(), from, known.tables);
    const word = context.key === undefined ? known.tables[context.kind ?? ""]?.find((w) => w.key === found[0]) : undefined;
    const said = word ? `${word.doc} Takes: ${word.takes}.` : known.measures[line.text.slice(found.index).split(/["'\s]/)[0] ?? ""];
    if (!said) return null;
    return {
      pos: from,
      end: from + found[0].length,
      create: () => {
        const dom = document.createElement("div");
        dom.style.padding = "6px 9px";
        dom.textContent = said;
        return { dom };
      },
    };
  }
  return null;
}
