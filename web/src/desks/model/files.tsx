// The model as files: tables as CSV, the whole plant as JSON; out, and in after the difference was looked at.

import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { Download, FileInput } from 'lucide-react';
import { useRef, useState } from 'react';
import { toast } from 'sonner';
import { http, refused, type Schemas, take } from '../../api/client';
import { made } from '../../api/queries';
import { type PlantTree, pathOf } from '../../api/tree';
import { Progress } from '../../app/job-line';
import { useView } from '../../app/view';
import { complain } from '../../parts/form';
import { counted } from '../../parts/text';
import { Button, Choice, Field, Tick, Trouble } from '../../parts/ui';

type What = 'tag' | 'place' | 'rule' | 'plant';
const WHATS: Record<What, string> = { tag: 'Tags', place: 'Places', rule: 'Alarm rules', plant: 'The whole plant' };
const KINDS: Record<string, [string, string]> = {
  tag: ['tag', 'tags'],
  place: ['place', 'places'],
  rule: ['alarm rule', 'alarm rules'],
  connection: ['connection', 'connections'],
  layout: ['layout', 'layouts'],
  report: ['report', 'reports'],
  publication: ['publication', 'publications'],
  guide: ['guide to priorities', 'guides to priorities'],
  shift_pattern: ['shift pattern', 'shift patterns'],
  alarm_class: ['alarm class', 'alarm classes'],
  call_plan: ['call-out plan', 'call-out plans'],
};

export function Files({ tree, disabled }: { tree: PlantTree; disabled: boolean }) {
  const { at } = useView();
  const [mark, setMark] = useState('comma');
  const here = at ? tree.byId.get(at)?.name : undefined;
  const under = at ? `&under=${at}` : '';
  const out = (href: string, words: string) => (
    <a
      href={href}
      download
      className="inline-flex h-7 items-center gap-1.5 rounded border border-line bg-raised px-2.5 hover:border-firm hover:bg-band"
    >
      <Download className="size-4" /> {words}
    </a>
  );
  return (
    <div className="max-w-5xl space-y-6">
      <section aria-label="Export">
        <h2 className="mb-1 font-semibold">Export</h2>
        <p className="mb-2 text-soft">
          Tables as CSV in UTF-8{here ? ` for what lies under ${here}` : ''}; the whole plant as JSON. Cells that a spreadsheet
          would run as a formula begin with an apostrophe.
        </p>
        <div className="flex flex-wrap items-end gap-2">
          <Field label="Separator" className="w-32">
            {(p) => (
              <Choice {...p} value={mark} onChange={(e) => setMark(e.target.value)}>
                <option value="comma">comma</option>
                <option value="semicolon">semicolon</option>
                <option value="tab">tab</option>
              </Choice>
            )}
          </Field>
          {(['tag', 'place', 'rule'] as const).map((kind) => (
            <span key={kind}>{out(`/api/tables/${kind}/file?mark=${mark}${under}`, `${WHATS[kind]}.csv`)}</span>
          ))}
          {!disabled && out('/api/plant/file', 'Plant.json')}
        </div>
      </section>
      {!disabled && <In tree={tree} />}
    </div>
  );
}

function In({ tree }: { tree: PlantTree }) {
  const { at } = useView();
  const [what, setWhat] = useState<What>('tag');
  const [remove, setRemove] = useState(false);
  const [name, setName] = useState('');
  const [id, setId] = useState<string>();
  const [busy, setBusy] = useState(false);
  const [over, setOver] = useState(false);
  const chooser = useRef<HTMLInputElement>(null);
  const path = at ? pathOf(tree, at) : '';

  async function compare(file: File) {
    setName(file.name);
    setId(undefined);
    setBusy(true);
    try {
      const query = new URLSearchParams({
        what,
        remove: String(remove),
        ...(at && remove && what !== 'plant' ? { under: at } : {}),
      });
      // Sent as it is: the server reads what encoding and marks it has.
      const response = await fetch(`/api/files?${query}`, { method: 'POST', body: file });
      if (!response.ok) throw refused(response.status, await response.json().catch(() => undefined));
      setId(((await response.json()) as Schemas['Comparing']).id);
    } catch (error) {
      complain(error);
    } finally {
      setBusy(false);
    }
  }

  return (
    <section aria-label="In">
      <h2 className="mb-1 font-semibold">Import</h2>
      <p className="mb-2 text-soft">
        A file is compared with what is there first. Rows mean the item with their id, or of their path, or a new one; columns
        that are left out stay as they are. Nothing changes before you have seen the difference.
      </p>
      <fieldset
        aria-label="Import a file"
        className={clsx(
          'flex flex-wrap items-end gap-3 rounded border border-dashed p-3',
          over ? 'border-teal bg-tint' : 'border-firm',
        )}
        onDragOver={(e) => {
          e.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => {
          e.preventDefault();
          setOver(false);
          const file = e.dataTransfer.files[0];
          if (file) void compare(file);
        }}
      >
        <Field label="The file holds" className="w-40">
          {(p) => (
            <Choice {...p} value={what} onChange={(e) => setWhat(e.target.value as What)}>
              {Object.entries(WHATS).map(([key, words]) => (
                <option key={key} value={key}>
                  {words}
                </option>
              ))}
            </Choice>
          )}
        </Field>
        <span className="flex h-7 items-center">
          <Tick
            label={`Delete what the file lacks${remove && what !== 'plant' ? (path ? `, under ${path.replaceAll('/', ' / ')}` : ', anywhere') : ''}`}
            checked={remove}
            onChange={setRemove}
          />
        </span>
        <span className="flex-1" />
        <input
          ref={chooser}
          type="file"
          aria-label="File to compare"
          className="sr-only"
          tabIndex={-1}
          accept={what === 'plant' ? '.json' : '.csv,.tsv,.txt'}
          onChange={(e) => {
            const file = e.target.files?.[0];
            if (file) void compare(file);
            // The same file can be chosen again after it was changed.
            e.target.value = '';
          }}
        />
        <Button kind="main" disabled={busy} onClick={() => chooser.current?.click()}>
          <FileInput className="size-4" /> {busy ? 'Sending…' : 'Choose a file…'}
        </Button>
        <span className="text-sm text-soft">or drop it here</span>
      </fieldset>
      {id && <Compared key={id} id={id} name={name} onDone={() => setId(undefined)} />}
    </section>
  );
}

function Compared({ id, name, onDone }: { id: string; name: string; onDone: () => void }) {
  const view = useQuery({
    queryKey: ['file', id],
    queryFn: () => take(http.GET('/api/files/{id}', { params: { path: { id } } })),
    refetchInterval: (q) => (q.state.data?.state === 'working' ? 300 : false),
    staleTime: 0,
  });
  const [busy, setBusy] = useState(false);
  const why = `Imported ${name}`.slice(0, 400);
  const data = view.data;
  async function forget() {
    await take(http.DELETE('/api/files/{id}', { params: { path: { id } } })).catch(() => undefined);
    onDone();
  }
  async function takeIn() {
    setBusy(true);
    try {
      const done = await take(http.POST('/api/files/{id}/take', { params: { path: { id } }, body: { why } }));
      await made(done.revision);
      toast.success(`${name} is imported as revision ${done.revision}.`);
      onDone();
    } catch (error) {
      complain(error);
    } finally {
      setBusy(false);
    }
  }
  if (view.error) return <Trouble error={view.error} />;
  if (!data) return null;
  const total = data.counts.reduce((sum, c) => sum + c.count, 0);
  return (
    <section aria-label={`Difference of ${name}`} className="mt-3">
      <header className="mb-2 flex flex-wrap items-center gap-3">
        <h3 className="flex-1 font-semibold">{name}</h3>
        {data.state === 'working' && (
          <>
            <progress aria-label="Lines compared" value={data.done} max={Math.max(data.total, 1)} className="h-1.5 w-48" />
            <span className="figures text-sm">
              {data.done.toLocaleString('en')} of {data.total.toLocaleString('en')} lines
            </span>
          </>
        )}
        {busy && <Progress title={why} />}
        <Button disabled={busy} onClick={() => void forget()}>
          {data.state === 'working' ? 'Stop' : 'Discard'}
        </Button>
        {data.state === 'ready' && (
          <Button kind="main" disabled={busy || total === 0} onClick={() => void takeIn()}>
            {busy ? 'Applying…' : `Apply ${counted(total, 'change')}`}
          </Button>
        )}
      </header>
      {data.state === 'stopped' && <p>Stopped. Nothing was changed.</p>}
      {data.state === 'wrong' && (
        <>
          <p className="text-act4">{counted(data.wrong.length, 'error')} in the file; nothing was changed.</p>
          <div className="mt-1 max-h-96 overflow-auto border border-line bg-raised">
            <table className="w-full">
              <thead className="sticky top-0 bg-band text-left text-sm">
                <tr>
                  <th className="w-20 px-2 py-1 text-right">Line</th>
                  <th className="w-40 px-2">Column</th>
                  <th className="px-2">What is wrong</th>
                </tr>
              </thead>
              <tbody>
                {data.wrong.map((w, i) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: the list never changes
                  <tr key={i} className="border-t border-line">
                    <td className="figures px-2 py-0.5 text-right">{w.line > 0 ? w.line : ''}</td>
                    <td className="px-2">{w.column}</td>
                    <td className="px-2">{w.message}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </>
      )}
      {data.state === 'ready' && <Differences data={data} total={total} />}
    </section>
  );
}

const OUTCOMES = ['added', 'changed', 'removed'] as const;
const SIGNS: Record<string, string> = { added: '+', changed: '≠', removed: '−' };

function Differences({ data, total }: { data: Schemas['FileView']; total: number }) {
  const [only, setOnly] = useState<string>('');
  const named = (outcome: string) => {
    const parts = data.counts
      .filter((c) => c.outcome === outcome)
      .map((c) => counted(c.count, ...(KINDS[c.kind] ?? [c.kind, c.kind])));
    return parts.length > 0 ? `${parts.join(', ')} ${outcome}` : '';
  };
  const words = OUTCOMES.map(named).filter(Boolean);
  const shown = data.differences.filter((d) => only === '' || d.outcome === only);
  return (
    <>
      <p>
        {total === 0 ? 'No differences' : words.join('; ')}; {data.unchanged.toLocaleString('en')} as they are. Compared with
        revision <span className="figures">{data.revision}</span>.
      </p>
      {total > 0 && (
        <>
          <div className="mt-2 mb-1 flex gap-1.5">
            {['', ...OUTCOMES].map((outcome) => (
              <button
                key={outcome}
                type="button"
                aria-pressed={only === outcome}
                onClick={() => setOnly(outcome)}
                className={clsx(
                  'h-6.5 rounded-full border px-2.5 text-sm',
                  only === outcome ? 'border-teal bg-tint font-semibold' : 'border-line hover:bg-band',
                )}
              >
                {outcome === '' ? 'All' : outcome.replace(/^./, (c) => c.toUpperCase())}
              </button>
            ))}
          </div>
          <ul aria-label="Differences" className="max-h-[50vh] overflow-auto border border-line bg-raised">
            {shown.map((d, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: the list never changes
              <li key={i} className="border-t border-line px-2 py-1 first:border-t-0">
                <span className="figures mr-2 inline-block w-3 text-soft" aria-hidden>
                  {SIGNS[d.outcome]}
                </span>
                <span className="sr-only">{d.outcome} </span>
                <span className="text-soft">{KINDS[d.kind]?.[0]}</span> <b>{d.title.replaceAll('/', ' / ')}</b>
                {d.outcome === 'changed' && (
                  <span className="ml-2">
                    {d.cells.map((c) => (
                      <span key={c.column} className="mr-3 whitespace-nowrap">
                        <span className="text-soft">{c.column}</span> {c.before || <i className="text-soft">empty</i>} →{' '}
                        {c.after || <i className="text-soft">empty</i>}
                      </span>
                    ))}
                  </span>
                )}
              </li>
            ))}
          </ul>
          {data.differences.length < total && (
            <p className="mt-1 text-sm text-soft">The first {data.differences.length.toLocaleString('en')} are shown.</p>
          )}
        </>
      )}
    </>
  );
}
