// One command to several like machines: each is checked, written and read back by itself, and says what came of it.

import { X } from 'lucide-react';
import { useRef, useState } from 'react';
import { http, take } from '../../api/client';
import { useItems, useMay } from '../../api/queries';
import { ListField } from '../../parts/picker';
import { counted } from '../../parts/text';
import { Button, Confirm, Field, Tick } from '../../parts/ui';
import { Value } from '../../parts/value';
import { givenValue, ValueField } from '../../parts/value-field';
import { outOfRange } from '../../parts/write';
import type { Tag } from './cards';
import { commandsOf, machineOf } from './commands';

/** What came of a machine's write; `ok` where the device holds the value. */
interface Outcome {
  ok: boolean;
  words: string;
}

export function CommandSeveral({ at, onClose }: { at: string | undefined; onClose: () => void }) {
  const operator = useMay('operator');
  const items = useItems('tag', { under: at });
  const classes = useItems('class');
  const commands = commandsOf(items.data?.items ?? [], classes.data?.items ?? []);
  const [property, setProperty] = useState('');
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set());
  const [text, setText] = useState('');
  const [wrong, setWrong] = useState<string>();
  const [asked, setAsked] = useState(false);
  const [outcomes, setOutcomes] = useState<ReadonlyMap<string, Outcome>>(new Map());
  const [busy, setBusy] = useState(false);
  const stop = useRef(false);
  const command = commands.find((c) => c.property === property);
  const first = command?.tags[0];
  const chosen = command?.tags.filter((tag) => !left.has(tag.id)) ?? [];
  const printed = first?.set.unit ? `${text} ${first.set.unit}` : text;

  const choose = (next: string) => {
    setProperty(next);
    setLeft(new Set());
    setOutcomes(new Map());
    setText('');
    setWrong(undefined);
  };

  function ask() {
    // A machine may allow less than the others: it says so in its own row.
    const problem = first && outOfRange(givenValue(first, text), first);
    setWrong(problem);
    if (!problem) setAsked(true);
  }

  async function write() {
    setAsked(false);
    setBusy(true);
    stop.current = false;
    const told = new Map<string, Outcome>();
    const tell = (tag: Tag, outcome: Outcome) => {
      told.set(tag.id, outcome);
      setOutcomes(new Map(told));
    };
    setOutcomes(told);
    for (const tag of chosen) {
      const value = givenValue(tag, text);
      const refused = outOfRange(value, tag);
      if (stop.current) tell(tag, { ok: false, words: 'not written: stopped' });
      else if (refused) tell(tag, { ok: false, words: `not written: ${refused}` });
      else tell(tag, await writeTo(tag, value));
    }
    setBusy(false);
  }

  const done = [...outcomes.values()].filter((o) => o.ok).length;
  return (
    <section aria-label="Command several" className="mb-3 rounded-md border border-line bg-raised px-3 py-2">
      <div className="flex items-start justify-between gap-2">
        <h2 className="text-[0.9375rem] font-semibold">Command several machines</h2>
        <Button kind="quiet" className="px-1" aria-label="Close" disabled={busy} onClick={onClose}>
          <X className="size-4" />
        </Button>
      </div>
      {items.data && classes.data && commands.length === 0 && (
        <p className="text-soft">No two machines here have a command or a setting of their class in common.</p>
      )}
      {commands.length > 0 && (
        <form
          className="flex flex-wrap items-end gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            ask();
          }}
        >
          <Field label="Command or setting" className="w-64">
            {(p) => (
              <ListField
                field={p}
                label="Command or setting"
                from={commands.map((c) => ({ id: c.property, title: `${c.title}, ${counted(c.tags.length, 'machine')}` }))}
                none="choose …"
                disabled={busy}
                value={property}
                onChange={choose}
              />
            )}
          </Field>
          {first && (
            <ValueField
              key={property}
              tag={first}
              label="New value"
              value={text}
              onChange={setText}
              error={wrong}
              disabled={busy || !operator}
              className="w-44"
            />
          )}
          {first && (
            <Button
              type="submit"
              className="mb-0.5"
              kind="main"
              disabled={busy || !operator || !text.trim() || chosen.length === 0}
            >
              Write to {chosen.length}…
            </Button>
          )}
          {busy && (
            <Button
              className="mb-0.5"
              onClick={() => {
                stop.current = true;
              }}
            >
              Stop
            </Button>
          )}
          {!operator && <p className="text-sm text-soft">Your account may look and not write.</p>}
        </form>
      )}
      {command && (
        <ul className="mt-2" aria-label="Machines">
          {command.tags.map((tag) => (
            <Row
              key={tag.id}
              tag={tag}
              on={!left.has(tag.id)}
              disabled={busy}
              outcome={outcomes.get(tag.id)}
              onChange={(on) => {
                const next = new Set(left);
                if (on) next.delete(tag.id);
                else next.add(tag.id);
                setLeft(next);
              }}
            />
          ))}
        </ul>
      )}
      {!busy && outcomes.size > 0 && (
        <p role="status" className="mt-1 font-semibold">
          {done} of {counted(outcomes.size, 'machine')} written and read back.
        </p>
      )}
      <Confirm
        open={asked}
        title={`Write ${printed} to ${counted(chosen.length, 'machine')}?`}
        action={`Write to ${chosen.length}`}
        grave={false}
        onConfirm={() => void write()}
        onClose={() => setAsked(false)}
      >
        <p>
          {command?.title} of {chosen.map(machineOf).join('; ')}. The value goes to one device after the other, and each is read
          back.
        </p>
      </Confirm>
    </section>
  );
}

async function writeTo(tag: Tag, value: unknown): Promise<Outcome> {
  try {
    const body = { value: value as Record<string, never> };
    await take(http.POST('/api/tags/{id}/write', { params: { path: { id: tag.id } }, body }));
    return { ok: true, words: 'written and read back' };
  } catch (error) {
    return { ok: false, words: error instanceof Error ? `not written: ${error.message}` : 'not written' };
  }
}

interface RowProps {
  tag: Tag;
  on: boolean;
  disabled: boolean;
  outcome: Outcome | undefined;
  onChange: (on: boolean) => void;
}

/** A machine: whether it takes part, what it holds now, and what came of it. */
function Row({ tag, on, disabled, outcome, onChange }: RowProps) {
  const machine = machineOf(tag);
  return (
    <li className="flex h-7 items-center gap-3 border-t border-line">
      <span className="w-72 min-w-0 truncate">
        <Tick label={machine} checked={on} disabled={disabled} onChange={onChange} />
      </span>
      <Value no={tag.no} set={tag.set} own className="w-32 shrink-0" />
      {outcome && (
        <span className={outcome.ok ? 'text-teal' : 'text-act4'}>{outcome.ok ? outcome.words : `⨯ ${outcome.words}`}</span>
      )}
    </li>
  );
}
