// The watch list: any tags thrown together, from their bytes up to the value that is set.

import { useQuery } from '@tanstack/react-query';
import { X } from 'lucide-react';
import { useState } from 'react';
import { http, take } from '../../api/client';
import { useItems, useMay, useTags } from '../../api/queries';
import { useGo, useView } from '../../app/view';
import { Picker } from '../../parts/picker';
import { printed } from '../../parts/text';
import { Button, Trouble } from '../../parts/ui';
import { Value } from '../../parts/value';
import { WriteTo } from '../../parts/write';

export function WatchList() {
  const view = useView();
  const go = useGo();
  const ids = (view.tags ?? '').split(',').filter(Boolean);
  const tags = useTags(ids);
  const connections = useItems('connection').data?.items ?? [];
  const engineer = useMay('engineer');
  const [writing, setWriting] = useState<string | null>(null);
  const raw = useQuery({
    queryKey: ['raw', ids],
    enabled: engineer && ids.length > 0,
    queryFn: () => take(http.POST('/api/values/raw', { body: { tags: ids } })),
    refetchInterval: 1000,
    staleTime: 0,
    retry: false,
  });
  const show = (next: string[]) => go({ tags: next.join(',') || undefined });
  return (
    <section aria-label="Watch list" className="mb-3 rounded-md border border-line bg-raised p-3">
      <h2 className="text-[1rem] font-semibold">Watch list</h2>
      <p className="mb-2 text-soft">
        Tags of any connection side by side: the bytes as they came, what they mean, and the value.
      </p>
      <Picker
        label="Add a tag"
        kind="tag"
        under={view.at}
        accept={(hit) => !ids.includes(hit.id)}
        onPick={(id) => show([...ids, id])}
        className="mb-2 max-w-xl"
      />
      <Trouble error={raw.error} />
      {tags.length > 0 && (
        <div className="overflow-auto border border-line">
          <table className="w-full text-left">
            <thead className="bg-band text-sm">
              <tr className="h-7">
                <th className="px-2 font-semibold">Tag</th>
                <th className="px-2 font-semibold">Where it is read</th>
                <th className="px-2 font-semibold">Bytes</th>
                <th className="px-2 text-right font-semibold">Decoded</th>
                <th className="px-2 text-right font-semibold">Value</th>
                <th className="w-32" aria-label="Actions" />
              </tr>
            </thead>
            <tbody>
              {tags.map((tag) => {
                const row = raw.data?.find((r) => r.tag === tag.id);
                const connection = connections.find((c) => c.id === tag.set.connection);
                return (
                  <tr key={tag.id} className="h-8 border-t border-line align-top">
                    <td className="max-w-56 truncate px-2 py-1">
                      <button type="button" className="hover:text-teal" onClick={() => go({ tag: tag.id })}>
                        {tag.title.split('/').slice(-2).join(' / ')}
                      </button>
                    </td>
                    <td className="max-w-64 truncate px-2 py-1 text-soft">{tag.source || 'no source'}</td>
                    <td className="px-2 py-1 font-mono">
                      {row?.bytes || <span className="text-soft">{row?.words ?? '…'}</span>}
                    </td>
                    <td className="figures px-2 py-1 text-right">
                      {row && row.decoded !== null ? printed(row.decoded, 3).replace(/\.?0+$/, '') : ''}
                    </td>
                    <td className="px-2 py-1 text-right">
                      <Value no={tag.no} set={tag.set} rhythm={connection?.set.interval_ms ?? 1000} />
                    </td>
                    <td className="px-2 py-0.5 text-right">
                      {tag.set.writable && (
                        <Button kind="quiet" onClick={() => setWriting(writing === tag.id ? null : tag.id)}>
                          Set
                        </Button>
                      )}
                      <Button
                        kind="quiet"
                        aria-label={`Remove ${tag.set.name}`}
                        onClick={() => show(ids.filter((i) => i !== tag.id))}
                      >
                        <X className="size-3.5" />
                      </Button>
                      {writing === tag.id && (
                        <div className="pt-1 pb-2 text-left">
                          <WriteTo tag={tag} connection={connection?.set} />
                        </div>
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
