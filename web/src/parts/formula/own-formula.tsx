// A formula of an equipment class: its properties are named by `own("…")`.

import { lazy, Suspense, useId, useMemo, useRef } from 'react';
import { Picker } from '../picker';
import { formulaLanguage } from './language';
import { ownNaming } from './text';

const Editor = lazy(() => import('./editor'));

interface Props {
  label: string;
  text: string;
  onText: (text: string) => void;
  /** What it can name: properties and parameters. */
  names: readonly string[];
  disabled: boolean;
  /** One line, as a rule; without it there is room for several, and a field to insert properties. */
  short?: boolean;
  placeholder?: string;
  hint?: string;
}

export function OwnFormula({ label, text, onText, names, disabled, short = false, placeholder, hint }: Props) {
  const note = useId();
  const insert = useRef<(text: string) => void>(undefined);
  const known = names.join('\n');
  const language = useMemo(() => formulaLanguage(known.split('\n').filter(Boolean), placeholder), [known, placeholder]);
  return (
    <div className="min-w-0 space-y-0.5">
      <p className="text-sm text-soft">{label}</p>
      <Suspense fallback={<div className="h-8 rounded border border-firm bg-raised" />}>
        <Editor
          value={text}
          onChange={onText}
          wrong={NONE}
          label={label}
          describedBy={note}
          disabled={disabled}
          language={language}
          short={short}
          onReady={(put) => {
            insert.current = put;
          }}
        />
      </Suspense>
      <p id={note} className="text-sm text-soft">
        {hint}
      </p>
      {!short && (
        <Picker
          label="Insert property"
          from={names.map((name) => ({ id: name, title: name }))}
          disabled={disabled}
          className="w-52"
          onPick={(name) => insert.current?.(ownNaming(name))}
        />
      )}
    </div>
  );
}

const NONE: readonly never[] = [];
