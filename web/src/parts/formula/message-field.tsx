// A row of words and chips: the message of an alarm, or the values that go with its events.

import { lazy, type ReactNode, Suspense, useId, useMemo, useRef } from 'react';
import { Picker } from '../picker';
import { Button } from '../ui';
import { named } from './formula-field';
import { messageLanguage } from './message-language';
import { CHIPS, chipOf, ownChip } from './message-text';

const Editor = lazy(() => import('./editor'));

interface Props {
  label: string;
  text: string;
  onText: (text: string) => void;
  disabled: boolean;
  error: string | undefined;
  /** The place from which tags are named, and its path. */
  place?: { id: string; path: string } | undefined;
  /** What can be named, where it is not every tag. */
  names?: readonly string[];
  /** Chips for tags alone. */
  tagsAlone?: boolean;
  /** What comes of it, or what it is for. */
  children?: ReactNode;
}

export function MessageField({ label, text, onText, disabled, error, place, names, tagsAlone = false, children }: Props) {
  const note = useId();
  const insert = useRef<(text: string) => void>(undefined);
  const path = place?.path;
  const language = useMemo(() => messageLanguage(path, names, !tagsAlone), [path, names, tagsAlone]);
  const put = (chip: string) => insert.current?.(tagsAlone && text.trim() !== '' ? `, ${chip}` : chip);
  return (
    <div className="space-y-1">
      <p className="text-sm text-soft">{label}</p>
      <Suspense fallback={<div className="h-9 rounded border border-firm bg-raised" />}>
        <Editor
          value={text}
          onChange={(typed) => onText(typed.replaceAll('\n', ' '))}
          wrong={NONE}
          under={place?.id}
          label={label}
          describedBy={note}
          disabled={disabled}
          language={language}
          onReady={(insertAtCursor) => {
            insert.current = insertAtCursor;
          }}
        />
      </Suspense>
      <div className="flex flex-wrap items-center gap-1">
        {names ? (
          <Picker
            label="Insert property"
            from={names.map((name) => ({ id: name, title: name }))}
            disabled={disabled}
            className="w-44"
            onPick={(name) => put(ownChip(name))}
          />
        ) : (
          <Picker
            label="Insert tag"
            kind="tag"
            under={place?.id}
            disabled={disabled}
            className="w-44"
            onPick={(id) => {
              void named(id).then((tag) => tag && put(chipOf(tag, path)));
            }}
          />
        )}
        {!tagsAlone &&
          Object.entries(CHIPS).map(([word, says]) => (
            <Button
              key={word}
              kind="quiet"
              className="px-1.5"
              disabled={disabled}
              title={says}
              onClick={() => put(`[[${word}]]`)}
            >
              {word}
            </Button>
          ))}
      </div>
      <div id={note} aria-live="polite" className="text-sm">
        {error ? <p className="text-act4">{error}</p> : children}
      </div>
    </div>
  );
}

const NONE: readonly never[] = [];
