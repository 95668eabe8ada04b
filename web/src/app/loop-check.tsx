// A loop check in the inspector: watch the point while its source is moved, note what is applied, and keep what was seen as proof.

import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { useState } from 'react';
import { http, type Schemas, take } from '../api/client';
import type { Item } from '../api/model';
import { queries, useMay } from '../api/queries';
import { complain, numberOf, useForm } from '../parts/form';
import { type Reading, useReading } from '../parts/reading';
import { clock, moment } from '../parts/text';
import { Button, Field, FormTrouble, Input } from '../parts/ui';

type Check = Schemas['LoopCheckView'];
type Movement = Schemas['MovementView'];

export const PROOF_WORDS = {
  never: 'never checked',
  failed: 'check failed',
  changed: 'changed since proven',
  proven: 'proven',
} as const;
export type Proof = keyof typeof PROOF_WORDS;

/** So many checks are listed before somebody asks for the others. */
const FIRST = 3;
/** The point is read so often while somebody watches, in ms. */
const BEAT = 1000;

/** The number that is applied, or nothing where the text is none. */
export function appliedOf(text: string): number | undefined {
  const number: unknown = numberOf(text);
  return typeof number === 'number' && Number.isFinite(number) ? number : undefined;
}

/** How far the value moved, in words. */
function coveredWords(look: Schemas['LookView'] | undefined): string {
  if (!look?.seen.value) return '';
  if (!look.seen.moved) return 'The value has not changed yet.';
  return typeof look.covered === 'number' ? `Moved over ${look.covered.toFixed(1)} % of its range.` : '';
}

const print = (value: unknown) => (typeof value === 'string' ? value : JSON.stringify(value ?? null));

/** The span of a value in words: “0.2 to 99.0”, or what it was first and last where it is no number. */
export function spanOf(movement: Movement, reading: Pick<Reading, 'print' | 'names'>): string {
  const { lowest, highest, first, last } = movement as unknown as Record<string, unknown>;
  const [from, to] = lowest === null || reading.names ? [first, last] : [lowest, highest];
  return `${reading.print(from)} to ${reading.print(to)}`;
}

export function LoopChecks({ tag }: { tag: Item<'tag'> }) {
  const engineer = useMay('engineer');
  const reading = useReading(tag.set, true);
  const [watching, setWatching] = useState(false);
  const [all, setAll] = useState(false);
  const told = useQuery({
    queryKey: ['loop checks', tag.id, tag.revision],
    queryFn: () => take(http.GET('/api/tags/{id}/loop-checks', { params: { path: { id: tag.id } } })),
    staleTime: 0,
  });
  if (!told.data) return null;
  const { checks } = told.data;
  const proof = told.data.proof as Proof | null;
  if (proof === null && checks.length === 0) {
    return <p className="text-soft">No device is the source of this tag, so there is no loop to check.</p>;
  }
  const changed = checks[0]?.changed.join(', ');
  return (
    <div className="space-y-2">
      <p className="flex items-center gap-2">
        <span className={clsx('flex-1', proof !== 'proven' && 'font-semibold', proof === 'failed' && 'text-act4')}>
          {proof ? PROOF_WORDS[proof].replace(/^./, (c) => c.toUpperCase()) : 'No device is its source now'}
          {proof === 'changed' && `: ${changed}`}
        </span>
        {!watching && proof && (
          <Button disabled={!engineer} title={engineer ? undefined : 'Needs the role engineer'} onClick={() => setWatching(true)}>
            Check loop…
          </Button>
        )}
      </p>
      {watching && <Watch tag={tag} reading={reading} onClose={() => setWatching(false)} />}
      {checks.slice(0, all ? undefined : FIRST).map((check) => (
        <Made key={check.id} check={check} unit={tag.set.unit} reading={reading} />
      ))}
      {!all && checks.length > FIRST && (
        <Button kind="quiet" onClick={() => setAll(true)}>
          Show {checks.length - FIRST} earlier checks
        </Button>
      )}
    </div>
  );
}

function Made({ check, unit, reading }: { check: Check; unit: string; reading: Reading }) {
  const { value, steps } = check.seen;
  return (
    <div className="border-l-2 border-line pl-2 text-sm">
      <p>
        <b className={clsx(!check.passed && 'text-act4')}>{check.passed ? 'Proven' : 'Failed'}</b> {moment(check.at)} by{' '}
        {check.actor}
      </p>
      <p className="text-soft">
        {value ? (
          <>
            <span className="figures">{spanOf(value, reading)}</span> {unit}
          </>
        ) : (
          'No good value was seen'
        )}{' '}
        at {check.point || 'its source'}
      </p>
      {check.remark && <p>{check.remark}</p>}
      {steps.length > 0 && <Steps steps={steps} reading={reading} />}
    </div>
  );
}

function Watch({ tag, reading, onClose }: { tag: Item<'tag'>; reading: Reading; onClose: () => void }) {
  const form = useForm({ applied: '', remark: '' }, ['applied', 'remark'], { draft: `loop check ${tag.id}` });
  const { applied, remark } = form.values;
  const path = { params: { path: { id: tag.id } } };
  const key = ['look', tag.id];
  const ask = (body: Schemas['LookBody']) => take(http.POST('/api/tags/{id}/loop-checks/look', { ...path, body }));
  const look = useQuery({
    queryKey: key,
    queryFn: () => ask({ again: false }),
    refetchInterval: BEAT,
    staleTime: 0,
    gcTime: 0,
  });
  const seen = look.data?.seen;
  const show = async (body: Schemas['LookBody']) => {
    // A look that was asked for before must not show over this one.
    await queries.cancelQueries({ queryKey: key });
    queries.setQueryData(key, await ask(body));
  };
  const number = appliedOf(applied);
  const note = () =>
    form
      .run(() => show({ again: false, applied: number ?? null }))
      .then((done) => done && form.reset({ applied: '', remark: form.values.remark }));
  async function keep(passed: boolean) {
    const done = await form.run(async () => {
      await take(http.POST('/api/tags/{id}/loop-checks', { ...path, body: { passed, remark } }));
    });
    if (!done) return;
    form.reset({ applied: '', remark: '' });
    onClose();
    await Promise.all([
      queries.invalidateQueries({ queryKey: ['loop checks', tag.id] }),
      queries.invalidateQueries({ queryKey: ['sheet'] }),
    ]);
  }
  return (
    <form
      aria-label="Loop check"
      className="space-y-2 rounded border border-teal bg-paper p-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (number !== undefined) void note();
      }}
    >
      <p>
        Move the source through its range and watch the value follow.
        {seen && <span className="text-soft"> Watching since {clock(seen.from)}.</span>}
      </p>
      {look.error && <p className="text-act4">{look.error.message}</p>}
      <table className="w-full text-right text-sm">
        <thead className="text-soft">
          <tr>
            <td aria-hidden />
            <th className="font-normal">now</th>
            <th className="font-normal">lowest</th>
            <th className="font-normal">highest</th>
            <th className="font-normal">changes</th>
          </tr>
        </thead>
        <tbody>
          <Moved name="Sent" movement={seen?.sent ?? null} print={print} />
          <Moved name="Value" movement={seen?.value ?? null} print={reading.print} strong />
        </tbody>
      </table>
      <p className="min-h-5 text-sm text-soft" aria-live="polite">
        {look.data?.trouble ||
          [coveredWords(look.data), look.data?.bytes ? `Bytes ${look.data.bytes}.` : look.data?.words].filter(Boolean).join(' ')}
      </p>
      <div className="flex items-end gap-2">
        <Field
          label={`Applied at the source${tag.set.unit ? `, ${tag.set.unit}` : ''}`}
          className="flex-1"
          error={form.error('applied')}
        >
          {(p) => (
            <Input
              {...p}
              className="figures text-right"
              inputMode="decimal"
              value={applied}
              onChange={(e) => form.set('applied', e.target.value)}
            />
          )}
        </Field>
        <Button type="submit" disabled={number === undefined || !seen?.value || form.busy}>
          Note step
        </Button>
      </div>
      {seen && seen.steps.length > 0 && <Steps steps={seen.steps} reading={reading} />}
      <Field label="Remark" error={form.error('remark')}>
        {(p) => <Input {...p} value={remark} onChange={(e) => form.set('remark', e.target.value)} />}
      </Field>
      <FormTrouble form={form} />
      <div className="flex flex-wrap gap-2">
        <Button kind="main" disabled={!seen?.moved || form.busy} onClick={() => void keep(true)}>
          Save as proven
        </Button>
        <Button disabled={!seen || form.busy} onClick={() => void keep(false)}>
          Save as failed
        </Button>
        <Button kind="quiet" disabled={form.busy} onClick={() => void show({ again: true }).catch(complain)}>
          Begin again
        </Button>
        <Button kind="quiet" onClick={onClose}>
          Close
        </Button>
      </div>
    </form>
  );
}

interface MovedProps {
  name: string;
  movement: Movement | null;
  print: (value: unknown) => string;
  strong?: boolean;
}

function Moved({ name, movement, print: words, strong = false }: MovedProps) {
  const cell = (value: unknown) => (value === null || value === undefined ? '–' : words(value));
  return (
    <tr className={clsx(strong && 'font-semibold')}>
      <th className="text-left font-normal">{name}</th>
      <td className="figures max-w-20 truncate">{movement ? cell(movement.last) : '…'}</td>
      <td className="figures max-w-16 truncate">{movement ? cell(movement.lowest) : ''}</td>
      <td className="figures max-w-16 truncate">{movement ? cell(movement.highest) : ''}</td>
      <td className="figures">{movement?.changes ?? ''}</td>
    </tr>
  );
}

/** What was applied, and how far off the value was. */
function Steps({ steps, reading }: { steps: readonly Schemas['StepView'][]; reading: Reading }) {
  const off = (by: number) => `${by > 0 ? '+' : ''}${by.toFixed(Math.min(9, reading.decimals + 1))}`;
  return (
    <table className="w-full text-right text-sm">
      <thead className="text-soft">
        <tr>
          <th className="text-left font-normal">applied</th>
          <th className="font-normal">value</th>
          <th className="font-normal">off by</th>
          <th className="font-normal">of range</th>
        </tr>
      </thead>
      <tbody className="figures">
        {steps.map((step) => (
          <tr key={step.at}>
            <td className="text-left">{step.applied}</td>
            <td>{reading.print(step.value)}</td>
            <td>{typeof step.deviation === 'number' ? off(step.deviation) : '–'}</td>
            <td>{typeof step.share === 'number' ? `${step.share.toFixed(1)} %` : '–'}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
