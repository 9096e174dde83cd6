/** The rule as text: coloured words, completion of fields, operators and values, errors under the word. */
import {
  autocompletion,
  type CompletionContext,
  type CompletionResult,
  completionKeymap,
} from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { type Diagnostic, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, placeholder } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import type { FieldProblem } from "@/api/client";
import { fields as fieldsQuery, values as valuesQuery } from "@/api/queries";
import { written } from "./clauses";

const KEYWORDS =
  /^(and|or|not|any|all|none|of|is|set|missing|contains|starts|ends|with|like|between|older|than|within|everything)\b/i;

const language = StreamLanguage.define<{ start: boolean }>({
  startState: () => ({ start: true }),
  token(stream, state) {
    if (stream.eatSpace()) return null;
    if (stream.match(/^"(?:[^"\\]|\\.)*"?/)) {
      state.start = false;
      return "string";
    }
    const keyword = stream.match(KEYWORDS);
    if (keyword) {
      const word = stream.current().toLowerCase();
      state.start = word === "and" || word === "or" || word === "not";
      return "keyword";
    }
    if (stream.match(/^(<=|>=|!=|[=<>(),])/)) {
      if (stream.current() !== "(" || !state.start) state.start = false;
      return "operator";
    }
    stream.match(/^[^\s"(),=<>!]+/) || stream.next();
    const kind = state.start ? "variableName" : "string";
    state.start = false;
    return kind;
  },
});

const colours = HighlightStyle.define([
  { tag: tags.keyword, color: "var(--plum)" },
  { tag: tags.variableName, color: "var(--verdigris)" },
  { tag: tags.string, color: "var(--saffron-ink)" },
  { tag: tags.operator, color: "var(--ink)" },
]);

const look = EditorView.theme({
  "&": { backgroundColor: "transparent", color: "var(--ink)" },
  ".cm-content": { padding: "10px 14px", lineHeight: "1.75", caretColor: "var(--ink)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)", borderLeftWidth: "2px" },
  ".cm-placeholder": { color: "var(--soft)" },
});

export function RuleEditor({
  value,
  onChange,
  problems,
  label,
  hint = 'For example: model = "Sill 400" and tag = frost-zone',
  autoFocus = false,
}: {
  value: string;
  onChange: (rule: string) => void;
  problems: FieldProblem[];
  label: string;
  hint?: string;
  autoFocus?: boolean;
}) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const change = useRef(onChange);
  const first = useRef({ value, label, hint, autoFocus });
  const client = useQueryClient();
  change.current = onChange;

  useEffect(() => {
    if (!host.current) return;
    const start = first.current;
    const complete = (context: CompletionContext) => completions(context, client);
    const editor = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: start.value,
        extensions: [
          history(),
          keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap]),
          language,
          syntaxHighlighting(colours),
          autocompletion({ override: [complete], activateOnTypingDelay: 60 }),
          placeholder(start.hint),
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": start.label, spellcheck: "false" }),
          EditorView.updateListener.of((u) => u.docChanged && change.current(u.state.doc.toString())),
          look,
        ],
      }),
    });
    view.current = editor;
    if (start.autoFocus) editor.focus();
    return () => editor.destroy();
  }, [client]);

  useEffect(() => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== value)
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: value } });
  }, [value]);

  useEffect(() => {
    const editor = view.current;
    if (!editor) return;
    const doc = editor.state.doc;
    const found: Diagnostic[] = problems.map((p) => {
      const line = doc.line(Math.min(doc.lines, Math.max(1, p.line ?? 1)));
      const from = Math.min(line.to, line.from + (p.column ?? 1) - 1);
      const to = Math.min(doc.length, from + Math.max(1, p.length ?? 1));
      return { from, to, severity: "error", message: p.message };
    });
    editor.dispatch(setDiagnostics(editor.state, found));
  }, [problems]);

  return (
    <div>
      <div ref={host} className="rounded-md border border-rule bg-card focus-within:border-ink" />
      {problems.length > 0 && (
        <ul className="mt-1.5 space-y-0.5 text-brick" aria-live="polite">
          {problems.slice(0, 3).map((p) => (
            <li key={`${p.line}:${p.column}:${p.message}`}>
              Line {p.line}, column {p.column}: {p.message}
              {p.closest && (
                <>
                  {" "}
                  Did you mean <code className="font-mono">{p.closest}</code>?
                </>
              )}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

/** Completion: after a field its operators, after an operator the values that exist, else fields. */
async function completions(
  context: CompletionContext,
  client: ReturnType<typeof useQueryClient>,
): Promise<CompletionResult | null> {
  const known = await client.ensureQueryData(fieldsQuery);
  const before = context.state.sliceDoc(0, context.pos);
  const word = /[^\s"(),=<>!]*$/.exec(before)?.[0] ?? "";
  const head = before.slice(0, before.length - word.length);
  const from = context.pos - word.length;
  const comparing =
    /(\w+)\s*(?:=|!=|<=?|>=?|contains|starts with|ends with|like)\s*"?$|(\w+)\s+(?:any|all|none) of\s*\((?:[^)]*,)?\s*"?$/i.exec(
      head,
    );
  const key = comparing?.[1] ?? comparing?.[2];
  const spec = known.find((f) => f.key === key?.toLowerCase());
  if (spec) {
    const found = await client.ensureQueryData(valuesQuery(spec.key));
    const open = head.endsWith('"') ? 1 : 0;
    return {
      from: from - open,
      filter: true,
      options: found.map((v) => ({
        label: open ? `"${v.value}` : v.value,
        displayLabel: v.value,
        detail: String(v.count),
        apply: written(v.value),
      })),
    };
  }
  const afterField = /(?:^|\s|\()(\w+)\s+$/.exec(head)?.[1];
  const field = known.find((f) => f.key === afterField?.toLowerCase());
  if (field) return { from, options: field.operators.map((o) => ({ label: o, type: "keyword" })) };
  if (!word && !context.explicit) return null;
  return {
    from,
    options: known.map((f) => ({ label: f.key, detail: f.label, apply: `${f.key} ` })),
  };
}
