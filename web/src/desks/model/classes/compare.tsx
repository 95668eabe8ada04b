// Where two classes differ.

import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { http, type Schemas, take } from '../../../api/client';
import { ListField } from '../../../parts/picker';
import { Trouble } from '../../../parts/ui';

export function Compare({ id, classes }: { id: string; classes: readonly Schemas['ClassRow'][] }) {
  const [other, setOther] = useState('');
  const compared = useQuery({
    queryKey: ['classes', id, 'compared', other],
    enabled: other !== '',
    queryFn: () => take(http.GET('/api/classes/{id}/compared/{other}', { params: { path: { id, other } } })),
  });
  const name = (of: string) => classes.find((c) => c.id === of)?.name;
  return (
    <section aria-label="Comparison">
      <div className="mb-1 flex items-center gap-2">
        <h3 className="font-semibold">Compare with</h3>
        <ListField
          label="Compare with"
          className="w-48"
          from={classes.filter((c) => c.id !== id).map((c) => ({ id: c.id, title: c.name }))}
          none="choose a class"
          value={other}
          onChange={setOther}
        />
      </div>
      {compared.error && <Trouble error={compared.error} />}
      {compared.data?.length === 0 && <p className="text-soft">They say the same.</p>}
      {compared.data && compared.data.length > 0 && (
        <div className="max-h-64 overflow-auto border border-line bg-raised">
          <table className="w-full text-left">
            <thead className="sticky top-0 bg-raised text-sm text-soft">
              <tr>
                <th className="px-2 font-normal">Setting</th>
                <th className="px-2 font-normal">{name(id)}</th>
                <th className="px-2 font-normal">{name(other)}</th>
              </tr>
            </thead>
            <tbody>
              {compared.data.map((line) => (
                <tr key={line.title} className="border-t border-line align-top">
                  <td className="px-2">{line.title}</td>
                  <td className="px-2">{line.one || <span className="text-soft">nothing</span>}</td>
                  <td className="px-2">{line.other || <span className="text-soft">nothing</span>}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
