// A lookup as a file: written on the server, with progress, then fetched.

import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { http, take } from '../../../api/client';
import type { LookupSet } from '../../../api/model';
import { complain, useForm } from '../../../parts/form';
import { bytesWords, counted } from '../../../parts/text';
import { Button, Choice, Field, FormTrouble, Input, Popup, Trouble } from '../../../parts/ui';

const FORMATS: Record<string, [string, string]> = {
  csv: ['CSV', 'Every row, times in UTC with all digits; for spreadsheets and most programs.'],
  xlsx: ['Workbook (XLSX)', 'Numbers that can be counted with, times in your zone to the millisecond; at most 1,048,575 rows.'],
  parquet: ['Parquet', 'Columns with types, small and quick to read; for notebooks and data tools.'],
  json: ['JSON', 'Columns and rows in one document.'],
  ndjson: ['JSON lines', 'One object for each row; for programs that read line by line.'],
};

export function FileDialog({ lookup, onClose }: { lookup: LookupSet; onClose: () => void }) {
  const form = useForm({ name: 'Lookup', format: 'csv' });
  const [id, setId] = useState<string | null>(null);
  const file = useQuery({
    queryKey: ['lookup file', id],
    enabled: id !== null,
    queryFn: () => take(http.GET('/api/lookup/files/{id}', { params: { path: { id: id ?? '' } } })),
    refetchInterval: ({ state: { data } }) => (data && (data.bytes != null || data.failed) ? false : 400),
    staleTime: 0,
    gcTime: 0,
  });
  const begin = () =>
    form.probe(async ({ name, format }) => {
      const body = { lookup: lookup as unknown as Record<string, never>, format, name };
      setId((await take(http.POST('/api/lookup/files', { body }))).id);
    });
  const stop = async () => {
    if (id === null) return;
    setId(null);
    await take(http.DELETE('/api/lookup/files/{id}', { params: { path: { id } } })).catch(complain);
  };
  const told = id === null ? undefined : file.data;
  const working = id !== null && told?.bytes == null && !told?.failed;
  return (
    <Popup open title="Write a file" onClose={onClose} className="top-24 w-[34rem] p-4">
      <form
        className="mt-2"
        onSubmit={(e) => {
          e.preventDefault();
          void begin();
        }}
      >
        <div className="grid grid-cols-[minmax(0,1fr)_13rem] items-start gap-3">
          <Field label="Name" error={form.error('name')}>
            {(p) => <Input {...p} value={form.values.name} onChange={(e) => form.set('name', e.target.value)} />}
          </Field>
          <Field label="Format" error={form.error('format')}>
            {(p) => (
              <Choice {...p} value={form.values.format} onChange={(e) => form.set('format', e.target.value)}>
                {Object.entries(FORMATS).map(([format, [name]]) => (
                  <option key={format} value={format}>
                    {name}
                  </option>
                ))}
              </Choice>
            )}
          </Field>
        </div>
        <p className="mt-1 min-h-10 text-sm text-soft">{FORMATS[form.values.format]?.[1]}</p>
        <FormTrouble form={form} />
        <div className="mt-2 flex items-center gap-3">
          <Button kind="main" type="submit" disabled={form.busy || working}>
            Write the file
          </Button>
          {working && (
            <>
              <progress className="h-1.5 flex-1" value={told?.share ?? 0} max={1} aria-label="Writing the file" />
              <span className="figures" role="status">
                {counted(told?.rows ?? 0, 'row')}
              </span>
              <Button onClick={() => void stop()}>Cancel</Button>
            </>
          )}
        </div>
      </form>
      <Trouble error={file.error ?? (told?.failed ? new Error(told.failed) : undefined)} />
      {told?.bytes != null && (
        <p className="mt-3 flex items-center gap-3 rounded border border-teal p-2" role="status">
          <span className="min-w-0 flex-1 truncate">
            {told.name} · {counted(told.rows, 'row')}, {bytesWords(told.bytes)}
          </span>
          <a
            className="rounded border border-line px-2 py-1 font-semibold hover:bg-band"
            href={`/api/lookup/files/${told.id}/content`}
            download={told.name}
          >
            Save it
          </a>
        </p>
      )}
    </Popup>
  );
}
