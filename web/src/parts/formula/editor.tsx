// Where a formula is typed: tags show as chips, tags and functions are offered while one types, and mistakes are marked where they are.

import {
  acceptCompletion,
  autocompletion,
  completionKeymap,
  completionStatus,
  currentCompletions,
} from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { type Diagnostic, setDiagnostics } from '@codemirror/lint';
import { Annotation, Compartment, EditorState, Prec } from '@codemirror/state';
import {
  Decoration,
  type DecorationSet,
  EditorView,
  keymap,
  placeholder as placeholderOf,
  ViewPlugin,
  type ViewUpdate,
  WidgetType,
} from '@codemirror/view';
import { useEffect, useRef } from 'react';
import type { Schemas } from '../../api/client';
import { formulaLanguage, type Language, type Shown } from './language';

type Wrong = Schemas['MistakeView'];

/** A change that the page made, not the person who types. */
const fromOutside = Annotation.define<boolean>();

class Chip extends WidgetType {
  constructor(private readonly of: Shown) {
    super();
  }

  override eq(other: Chip) {
    return other.of.said === this.of.said;
  }

  toDOM() {
    const chip = document.createElement('span');
    chip.className = 'formula-chip';
    chip.textContent = this.of.shown;
    chip.title = this.of.title;
    chip.setAttribute('aria-label', this.of.said);
    return chip;
  }

  override ignoreEvent() {
    return false;
  }
}

/** Chips are one character to the keys: arrows step over them, and they are deleted as a whole. */
const chips = (language: Language) => {
  const of = (view: EditorView): DecorationSet =>
    Decoration.set(
      language
        .chips(view.state.doc.toString())
        .map((shown) => Decoration.replace({ widget: new Chip(shown) }).range(shown.from, shown.to)),
    );
  return ViewPlugin.fromClass(
    class {
      chips: DecorationSet;
      constructor(view: EditorView) {
        this.chips = of(view);
      }
      update(update: ViewUpdate) {
        if (update.docChanged) this.chips = of(update.view);
      }
    },
    {
      decorations: (plugin) => plugin.chips,
      provide: (plugin) => EditorView.atomicRanges.of((view) => view.plugin(plugin)?.chips ?? Decoration.none),
    },
  );
};

const FORMULA = formulaLanguage();

const offering = (language: Language, under: string | undefined) =>
  autocompletion({ override: [language.offers(under)], icons: false, activateOnTyping: true, interactionDelay: 0 });

/** Enter typed before the answer takes the first of it, never of what was listed before. */
const waiting = new WeakSet<EditorView>();
const entering = [
  Prec.highest(
    keymap.of([
      {
        key: 'Enter',
        run: (view) => {
          if (completionStatus(view.state) === null) return false;
          if (!acceptCompletion(view)) waiting.add(view);
          return true;
        },
      },
    ]),
  ),
  EditorView.updateListener.of(({ view, docChanged, state }) => {
    if (!waiting.has(view)) return;
    const answered = currentCompletions(state).length > 0;
    if (docChanged || answered || completionStatus(state) === null) waiting.delete(view);
    // Not within an update of the view.
    if (answered && !docChanged) setTimeout(() => acceptCompletion(view));
  }),
];

const look = EditorView.theme({
  '&': {
    backgroundColor: 'var(--color-raised)',
    color: 'var(--color-ink)',
    border: '1px solid var(--color-firm)',
    borderRadius: '4px',
  },
  '&.cm-focused': { outline: '2px solid var(--color-teal)' },
  '.cm-content': { caretColor: 'var(--color-ink)' },
  '.cm-scroller': { maxHeight: '12em', overflow: 'auto', lineHeight: '1.6' },
  '.cm-cursor': { borderLeftColor: 'var(--color-ink)' },
  '&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground': {
    backgroundColor: 'color-mix(in srgb, var(--color-teal) 28%, transparent)',
  },
  '.cm-tooltip': {
    backgroundColor: 'var(--color-raised)',
    color: 'var(--color-ink)',
    border: '1px solid var(--color-firm)',
    borderRadius: '4px',
  },
  '.cm-tooltip.cm-tooltip-autocomplete > ul': { fontFamily: 'inherit', maxHeight: '16em' },
  '.cm-tooltip.cm-tooltip-autocomplete > ul > li': { padding: '3px 8px', lineHeight: '1.4' },
  '.cm-tooltip.cm-tooltip-autocomplete > ul > li[aria-selected]': {
    backgroundColor: 'var(--color-tint)',
    color: 'var(--color-ink)',
  },
  '.cm-completionDetail': { color: 'var(--color-soft)', fontStyle: 'normal', marginLeft: '0.75em' },
  '.cm-placeholder': { color: 'var(--color-soft)' },
});

const tall = EditorView.theme({
  '.cm-content': { fontFamily: 'var(--font-mono)', fontSize: '0.9375rem', minHeight: '3.6em' },
});
const shortFormula = EditorView.theme({ '.cm-content': { fontFamily: 'var(--font-mono)', minHeight: '1.6em' } });
const flat = EditorView.theme({ '.cm-content': { fontFamily: 'var(--font-sans)', minHeight: '1.6em' } });

interface Props {
  value: string;
  onChange: (text: string) => void;
  wrong: readonly Wrong[];
  /** Tags under this place are offered first. */
  under?: string | undefined;
  label: string;
  describedBy: string;
  disabled?: boolean;
  /** What is typed, where that is no formula. */
  language?: Language;
  /** A formula of one line, as a rule. */
  short?: boolean;
  /** Hands out what puts text in at the cursor. */
  onReady?: (insert: (text: string) => void) => void;
}

export default function Editor({
  value,
  onChange,
  wrong,
  under,
  label,
  describedBy,
  disabled = false,
  language = FORMULA,
  short = false,
  onReady,
}: Props) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const latest = useRef({ onChange, value });
  latest.current = { onChange, value };
  const parts = useRef({
    editable: new Compartment(),
    offered: new Compartment(),
    said: new Compartment(),
    shown: new Compartment(),
  });

  // biome-ignore lint/correctness/useExhaustiveDependencies: the editor is made once; what changes is handed to it below
  useEffect(() => {
    if (!box.current) return;
    const { editable, offered, said, shown } = parts.current;
    const made = new EditorView({
      parent: box.current,
      state: EditorState.create({
        doc: latest.current.value,
        extensions: [
          history(),
          // Where a list is open its keys come first, otherwise Tab leaves the field.
          Prec.highest(keymap.of(completionKeymap)),
          keymap.of([...defaultKeymap, ...historyKeymap]),
          shown.of(chips(language)),
          look,
          language.isFormula ? (short ? shortFormula : tall) : flat,
          EditorView.lineWrapping,
          placeholderOf(language.placeholder),
          editable.of(EditorView.editable.of(!disabled)),
          offered.of(offering(language, under)),
          entering,
          said.of(EditorView.contentAttributes.of({ 'aria-label': label, 'aria-describedby': describedBy })),
          EditorView.updateListener.of((update) => {
            const outside = update.transactions.some((t) => t.annotation(fromOutside));
            if (update.docChanged && !outside) latest.current.onChange(update.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = made;
    onReady?.((text) => {
      made.dispatch(made.state.replaceSelection(text));
      made.focus();
    });
    return () => made.destroy();
  }, []);

  useEffect(() => {
    const shown = view.current;
    if (!shown || shown.state.doc.toString() === value) return;
    shown.dispatch({ changes: { from: 0, to: shown.state.doc.length, insert: value }, annotations: fromOutside.of(true) });
  }, [value]);

  useEffect(() => {
    view.current?.dispatch({ effects: parts.current.editable.reconfigure(EditorView.editable.of(!disabled)) });
  }, [disabled]);

  useEffect(() => {
    view.current?.dispatch({
      effects: [parts.current.offered.reconfigure(offering(language, under)), parts.current.shown.reconfigure(chips(language))],
    });
  }, [under, language]);

  useEffect(() => {
    const shown = view.current;
    if (!shown) return;
    const most = shown.state.doc.length;
    const diagnostics = wrong.map((w): Diagnostic => {
      const from = Math.min(unitsOf(shown.state.doc.toString(), w.from), most);
      return {
        from,
        to: Math.min(Math.max(unitsOf(shown.state.doc.toString(), w.to), from), most),
        severity: 'error',
        message: w.message,
      };
    });
    shown.dispatch(setDiagnostics(shown.state, diagnostics));
  }, [wrong]);

  return <div ref={box} className="min-w-0" />;
}

/** The server counts characters; the editor counts their halves where they lie beyond the first plane of Unicode. */
function unitsOf(text: string, characters: number): number {
  return [...text].slice(0, characters).join('').length;
}
