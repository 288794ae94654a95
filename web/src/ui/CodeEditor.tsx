/** An editor for code and recipes, in Ivrell's colours. */
import {
  autocompletion,
  type Completion,
  completionKeymap,
  type CompletionSource,
} from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { python, pythonLanguage } from "@codemirror/lang-python";
import { sql, StandardSQL } from "@codemirror/lang-sql";
import {
  bracketMatching,
  HighlightStyle,
  indentUnit,
  StreamLanguage,
  syntaxHighlighting,
} from "@codemirror/language";
import { toml } from "@codemirror/legacy-modes/mode/toml";
import { MergeView } from "@codemirror/merge";
import {
  Annotation,
  Compartment,
  EditorState,
  type Extension,
  StateEffect,
  StateField,
} from "@codemirror/state";
import {
  Decoration,
  type DecorationSet,
  drawSelection,
  EditorView,
  gutter,
  GutterMarker,
  highlightActiveLine,
  keymap,
  lineNumbers,
} from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useEffectEvent, useRef, useState } from "react";
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
  ".cm-took": { minWidth: "70px", color: "var(--ink-2)", fontSize: "11px" },
  ".cm-took .took": { display: "flex", alignItems: "center", gap: "4px", paddingLeft: "6px" },
  ".cm-took .took i": { height: "8px", backgroundColor: "var(--accent)", opacity: "0.75" },
  ".cm-took .took b": { fontWeight: "500" },
  ".cm-took .with-next": {
    marginLeft: "6px",
    height: "100%",
    width: "6px",
    borderLeft: "1px solid var(--accent)",
    padding: "0",
  },
  ".cm-wrong": { backgroundColor: "var(--caution-ground)", boxShadow: "inset 3px 0 var(--bad)" },
  ".cm-tooltip": {
    backgroundColor: "var(--sheet)",
    color: "var(--ink)",
    border: "1px solid var(--line)",
  },
  ".cm-tooltip-autocomplete > ul > li": { fontFamily: "var(--mono)", padding: "1px 8px" },
  ".cm-tooltip-autocomplete > ul > li[aria-selected]": {
    backgroundColor: "var(--selection)",
    color: "var(--ink)",
  },
  ".cm-completionDetail": { color: "var(--ink-3)", fontStyle: "normal", marginLeft: "12px" },
  ".cm-completionMatchedText": { textDecoration: "none", fontWeight: "650" },
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

/** What a line took, or several that cannot be told apart. */
export type LineMark = { first: number; line: number; share: number; words: string; grew: string };

class Took extends GutterMarker {
  constructor(
    readonly mark: LineMark,
    readonly ends: boolean,
  ) {
    super();
  }

  override eq(other: Took) {
    return this.ends === other.ends && JSON.stringify(this.mark) === JSON.stringify(other.mark);
  }

  override toDOM() {
    const place = document.createElement("span");
    place.className = this.ends ? "took" : "took with-next";
    place.title = this.mark.words;
    if (this.ends) {
      const bar = document.createElement("i");
      bar.style.width = `${Math.round(30 * this.mark.share)}px`;
      const share = document.createElement("b");
      const percent = 100 * this.mark.share;
      share.textContent = percent >= 0.5 ? `${percent.toFixed(0)} %` : this.mark.grew && "+";
      place.append(bar, share);
    }
    return place;
  }
}

/** A quiet margin that says of lines what they took. */
function margin(marks: LineMark[]): Extension[] {
  if (!marks.length) return [];
  return [
    gutter({
      class: "cm-took",
      lineMarker(view, block) {
        const number = view.state.doc.lineAt(block.from).number;
        const own = marks.find((mark) => mark.line === number);
        if (own) return new Took(own, true);
        const around = marks.find((mark) => mark.first <= number && number < mark.line);
        return around ? new Took(around, false) : null;
      },
      initialSpacer: () => new Took({ first: 1, line: 1, share: 1, words: "", grew: "" }, true),
    }),
  ];
}

export type Language = "python" | "sql" | "toml";

/** What code may name: columns by table, and knobs. */
export type Names = { tables: Record<string, string[]>; knobs: string[] };

const NOTHING: Names = { tables: {}, knobs: [] };

/** Tables behind `data.`, knobs behind `knobs.`, columns within quotes. */
function pythonNames({ tables, knobs }: Names): CompletionSource {
  const plain = (labels: string[], type: string, detail = ""): Completion[] =>
    labels.map((label) => ({ label, type, detail }));
  const columns = Object.entries(tables).flatMap(([table, names]) =>
    plain(names, "property", `of ${table}`),
  );
  return (context) => {
    const dotted = context.matchBefore(/\b(data|knobs)\.\w*/);
    if (dotted) {
      const [place = ""] = dotted.text.split(".");
      const options =
        place === "data" ? plain(Object.keys(tables), "class") : plain(knobs, "variable");
      return { from: dotted.from + place.length + 1, options, validFor: /^\w*$/ };
    }
    const quoted = context.matchBefore(/["']\w*/);
    if (quoted) return { from: quoted.from + 1, options: columns, validFor: /^\w*$/ };
    return null;
  };
}

/** Knobs behind a colon or in braces; tables and columns anywhere. */
function sqlNames({ tables, knobs }: Names): CompletionSource {
  const options = knobs.map((label) => ({ label, type: "variable", detail: "knob" }));
  // Offered before any FROM says which table is meant.
  const known = Object.entries(tables).flatMap(([table, names]) => [
    { label: table, type: "class", detail: "table", boost: 2 },
    ...names.map((label) => ({ label, type: "property", detail: `of ${table}`, boost: 1 })),
  ]);
  return (context) => {
    const marked = context.matchBefore(/[:{]\w*/);
    if (marked) return { from: marked.from + 1, options, validFor: /^\w*$/ };
    const word = context.matchBefore(/\w+/);
    return word ? { from: word.from, options: known, validFor: /^\w*$/ } : null;
  };
}

function completing(language: Language, names: Names): Extension[] {
  if (language === "python") {
    return [pythonLanguage.data.of({ autocomplete: pythonNames(names) })];
  }
  if (language === "sql") {
    return [StandardSQL.language.data.of({ autocomplete: sqlNames(names) })];
  }
  return [];
}

function common(language: Language): Extension[] {
  const spoken: Record<Language, Extension> = {
    python: [python(), indentUnit.of("    ")],
    sql: sql({ dialect: StandardSQL, upperCaseKeywords: true }),
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
    autocompletion({ icons: false }),
    keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap, indentWithTab]),
  ];
}

/** What screen readers call an editor, and that the keyboard reaches what scrolls in it. */
function named(label: string): Extension {
  return EditorView.contentAttributes.of({ "aria-label": label, tabindex: "0" });
}

/** Of text that the editor was given: told back it would come over what was changed since. */
const fromOutside = Annotation.define<boolean>();

type Props = {
  value: string;
  language: Language;
  label: string;
  onChange?: (value: string) => void;
  /** Line to mark as wrong, from 1. */
  wrong?: number | null;
  /** Names to complete. */
  names?: Names;
  /** What lines took. */
  marks?: LineMark[];
  id?: string;
};

export function CodeEditor(props: Props) {
  const { value, language, label, onChange, wrong = null, names = NOTHING, id } = props;
  const told = JSON.stringify(names);
  const took = JSON.stringify(props.marks ?? []);
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  // What changes while somebody types is put into the editor that is there: a new one would lose
  // the focus, the place and what can be undone.
  const [parts] = useState(() => ({
    label: new Compartment(),
    words: new Compartment(),
    took: new Compartment(),
  }));
  const changed = useEffectEvent((text: string) => onChange?.(text));
  const editable = onChange !== undefined;
  useEffect(() => {
    if (!place.current) return;
    const editor = new EditorView({
      parent: place.current,
      state: EditorState.create({
        extensions: [
          parts.took.of([]),
          ...common(language),
          parts.label.of([]),
          parts.words.of([]),
          EditorState.readOnly.of(!editable),
          EditorView.updateListener.of((update) => {
            const given = update.transactions.some((one) => one.annotation(fromOutside));
            if (update.docChanged && !given) changed(update.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = editor;
    return () => editor.destroy();
  }, [language, editable, parts]);
  useEffect(() => {
    const words = completing(language, JSON.parse(told) as Names);
    view.current?.dispatch({
      effects: [parts.label.reconfigure(named(label)), parts.words.reconfigure(words)],
    });
  }, [label, told, language, editable, parts]);
  useEffect(() => {
    const shown = margin(JSON.parse(took) as LineMark[]);
    view.current?.dispatch({ effects: parts.took.reconfigure(shown) });
  }, [took, language, editable, parts]);
  useEffect(() => {
    const editor = view.current;
    if (!editor || editor.state.doc.toString() === value) return;
    editor.dispatch({
      changes: { from: 0, to: editor.state.doc.length, insert: value },
      annotations: fromOutside.of(true),
    });
  }, [value, language, editable]);
  useEffect(() => {
    view.current?.dispatch({ effects: markLine.of(wrong) });
  }, [wrong, value]);
  return <div className="code-editor" ref={place} data-testid={id} />;
}

/** Two texts side by side with what changed between them. */
export function CodeDifference(props: {
  before: string;
  after: string;
  language: Language;
  labels: [string, string];
}) {
  const { before, after, language, labels } = props;
  const [beforeLabel, afterLabel] = labels;
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!place.current) return;
    const readOnly = (label: string) => [
      ...common(language),
      EditorState.readOnly.of(true),
      named(label),
    ];
    const merge = new MergeView({
      parent: place.current,
      a: { doc: before, extensions: readOnly(beforeLabel) },
      b: { doc: after, extensions: readOnly(afterLabel) },
      collapseUnchanged: { margin: 2, minSize: 6 },
    });
    return () => merge.destroy();
  }, [before, after, language, beforeLabel, afterLabel]);
  return <div className="code-editor difference" ref={place} />;
}
