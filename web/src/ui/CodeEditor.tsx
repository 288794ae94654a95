/** An editor for code and recipes, in Ivrell's colours. */
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { python } from "@codemirror/lang-python";
import { sql } from "@codemirror/lang-sql";
import {
  bracketMatching,
  HighlightStyle,
  indentUnit,
  StreamLanguage,
  syntaxHighlighting,
} from "@codemirror/language";
import { toml } from "@codemirror/legacy-modes/mode/toml";
import { MergeView } from "@codemirror/merge";
import { EditorState, type Extension, StateEffect, StateField } from "@codemirror/state";
import {
  Decoration,
  type DecorationSet,
  drawSelection,
  EditorView,
  highlightActiveLine,
  keymap,
  lineNumbers,
} from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useEffectEvent, useRef } from "react";
import { nonce } from "./nonce";

const inks = HighlightStyle.define([
  { tag: [tags.keyword, tags.operatorKeyword, tags.modifier], color: "var(--code-keyword)" },
  { tag: [tags.string, tags.special(tags.string)], color: "var(--code-string)" },
  { tag: [tags.comment], color: "var(--ink-3)", fontStyle: "italic" },
  { tag: [tags.number, tags.bool, tags.null, tags.atom], color: "var(--code-number)" },
  { tag: [tags.function(tags.variableName), tags.propertyName], color: "var(--code-name)" },
  {
    tag: [tags.heading, tags.definition(tags.variableName)],
    color: "var(--ink)",
    fontWeight: "600",
  },
]);

const look = EditorView.theme({
  "&": { backgroundColor: "var(--sheet)", color: "var(--ink)", fontSize: "13px", height: "100%" },
  ".cm-content": { fontFamily: "var(--mono)", caretColor: "var(--ink)" },
  ".cm-gutters": { backgroundColor: "var(--sheet)", color: "var(--ink-3)", border: "none" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "var(--row-here)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground":
    { backgroundColor: "var(--selection)" },
  ".cm-wrong": { backgroundColor: "var(--caution-ground)", boxShadow: "inset 3px 0 var(--bad)" },
  ".cm-changedLine": { backgroundColor: "var(--changed) !important" },
  ".cm-changedText": { background: "var(--changed-text) !important" },
});

const markLine = StateEffect.define<number | null>();

const wrongLine = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(marks, transaction) {
    let next = marks.map(transaction.changes);
    for (const effect of transaction.effects) {
      if (!effect.is(markLine)) continue;
      const lines = transaction.state.doc.lines;
      next =
        effect.value && effect.value <= lines
          ? Decoration.set([
              Decoration.line({ class: "cm-wrong" }).range(
                transaction.state.doc.line(effect.value).from,
              ),
            ])
          : Decoration.none;
    }
    return next;
  },
  provide: (field) => EditorView.decorations.from(field),
});

export type Language = "python" | "sql" | "toml";

function common(language: Language): Extension[] {
  const spoken: Record<Language, Extension> = {
    python: [python(), indentUnit.of("    ")],
    sql: sql(),
    toml: StreamLanguage.define(toml),
  };
  return [
    EditorView.cspNonce.of(nonce()),
    lineNumbers(),
    history(),
    drawSelection(),
    bracketMatching(),
    highlightActiveLine(),
    spoken[language] ?? [],
    language === "toml" ? EditorView.lineWrapping : [],
    syntaxHighlighting(inks),
    look,
    wrongLine,
    keymap.of([...defaultKeymap, ...historyKeymap, indentWithTab]),
  ];
}

type Props = {
  value: string;
  language: Language;
  label: string;
  onChange?: (value: string) => void;
  /** Line to mark as wrong, from 1. */
  wrong?: number | null;
  id?: string;
};

export function CodeEditor({ value, language, label, onChange, wrong = null, id }: Props) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const changed = useEffectEvent((text: string) => onChange?.(text));
  const editable = onChange !== undefined;
  useEffect(() => {
    if (!place.current) return;
    const editor = new EditorView({
      parent: place.current,
      state: EditorState.create({
        extensions: [
          ...common(language),
          EditorView.contentAttributes.of({ "aria-label": label }),
          EditorState.readOnly.of(!editable),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) changed(update.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = editor;
    return () => editor.destroy();
  }, [language, label, editable]);
  useEffect(() => {
    const editor = view.current;
    if (!editor || editor.state.doc.toString() === value) return;
    editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: value } });
  }, [value, language, label, editable]);
  useEffect(() => {
    view.current?.dispatch({ effects: markLine.of(wrong) });
  }, [wrong, value]);
  return <div className="code-editor" ref={place} data-testid={id} />;
}

/** Two texts side by side with what changed between them. */
export function CodeDifference(props: { before: string; after: string; language: Language }) {
  const { before, after, language } = props;
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!place.current) return;
    const readOnly = [...common(language), EditorState.readOnly.of(true)];
    const merge = new MergeView({
      parent: place.current,
      a: { doc: before, extensions: readOnly },
      b: { doc: after, extensions: readOnly },
      collapseUnchanged: { margin: 2, minSize: 6 },
    });
    return () => merge.destroy();
  }, [before, after, language]);
  return <div className="code-editor difference" ref={place} />;
}
