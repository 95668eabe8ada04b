// A scan of a range for what answers: gently, with progress, and stopped at will.

import { useRef, useState } from 'react';
import type { Schemas } from '../../../api/client';
import { stream } from '../../../api/stream';
import { complain } from '../../../parts/form';
import { counted } from '../../../parts/text';
import { Button, Field, Input } from '../../../parts/ui';

type Stretch = [number, number];

/** Stretches in order, those that touch joined. */
export function joined(stretches: readonly Stretch[]): Stretch[] {
  const found: Stretch[] = [];
  for (const [from, to] of stretches) {
    const last = found.at(-1);
    if (last && from <= last[1] + 1) last[1] = Math.max(last[1], to);
    else found.push([from, to]);
  }
  return found;
}

interface Props {
  connection: string;
  /** The address space. */
  node: string;
  onGo: (start: number) => void;
}

export function Scan({ connection, node, onGo }: Props) {
  const [from, setFrom] = useState('0');
  const [to, setTo] = useState('999');
  const [reached, setReached] = useState<number | null>(null);
  const [found, setFound] = useState<Stretch[]>([]);
  const [busyWords, setBusyWords] = useState(0);
  const [trouble, setTrouble] = useState('');
  const running = useRef<AbortController | null>(null);
  const [busy, setBusy] = useState(false);
  const last = Math.min(65_535, Number(to) || 0);
  const first = Math.min(last, Math.max(0, Number(from) || 0));
  const share = reached === null ? 0 : ((reached - first + 1) / (last - first + 1)) * 100;

  async function scan() {
    const controller = new AbortController();
    running.current = controller;
    setBusy(true);
    setFound([]);
    setTrouble('');
    setReached(null);
    setBusyWords(0);
    try {
      const body = { node, from: first, to: last };
      const steps = stream<Schemas['ScanView']>(`/api/connections/${connection}/scan`, { body, signal: controller.signal });
      for await (const step of steps) {
        setReached(step.reached);
        setFound((old) => joined([...old, ...(step.found as Stretch[])]));
        setBusyWords((n) => n + step.busy);
        if (step.trouble) setTrouble(step.trouble);
      }
    } catch (error) {
      if (!controller.signal.aborted) complain(error);
    }
    setBusy(false);
  }

  return (
    <section aria-label="Scan" className="mb-3 rounded border border-line bg-paper p-3">
      <div className="flex flex-wrap items-end gap-3">
        <Field label="Scan from">
          {(p) => <Input {...p} className="figures w-24 text-right" value={from} onChange={(e) => setFrom(e.target.value)} />}
        </Field>
        <Field label="to">
          {(p) => <Input {...p} className="figures w-24 text-right" value={to} onChange={(e) => setTo(e.target.value)} />}
        </Field>
        {busy ? (
          <Button onClick={() => running.current?.abort()}>Stop</Button>
        ) : (
          <Button onClick={() => void scan()}>Find what answers</Button>
        )}
        {reached !== null && (
          <>
            <progress aria-label="Scanned" className="mb-2 h-1.5 w-40" max={100} value={share} />
            <span className="figures pb-1 text-sm text-soft">
              {busy ? `up to ${reached}` : share >= 100 ? 'done' : `stopped at ${reached}`}
            </span>
          </>
        )}
        <span className="pb-1 text-sm text-soft">a hundred at a time, with a pause after each</span>
      </div>
      {trouble && <p className="mt-2 text-act4">{trouble}</p>}
      {reached !== null && (
        <p className="mt-2">
          {found.length === 0
            ? 'No address answers there.'
            : `${counted(busyWords, 'address', 'addresses')} hold something. These answer: `}
          {found.slice(0, 60).map(([a, b]) => (
            <button key={a} type="button" className="figures mr-3 text-teal hover:underline" onClick={() => onGo(a)}>
              {a === b ? a : `${a}–${b}`}
            </button>
          ))}
        </p>
      )}
    </section>
  );
}
