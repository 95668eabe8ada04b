// Deleting a connection: what goes with it, and what keeps it.

import { useQuery } from '@tanstack/react-query';
import { http, take } from '../../api/client';
import type { Item } from '../../api/model';
import { commit } from '../../api/queries';
import { useGo } from '../../app/view';
import { useForm } from '../../parts/form';
import { counted } from '../../parts/text';
import { Confirm, FormTrouble } from '../../parts/ui';

export function DeleteConnection({ item, seen, onClose }: { item: Item<'connection'>; seen: number; onClose: () => void }) {
  const go = useGo();
  const form = useForm({}, []);
  const uses = useQuery({
    queryKey: ['uses', 'connection', item.id],
    queryFn: () => take(http.GET('/api/items/{kind}/{id}/uses', { params: { path: { kind: 'connection', id: item.id } } })),
    staleTime: 0,
  });
  const tags = uses.data?.contents.tag ?? 0;
  const rules = uses.data?.contents.rule ?? 0;
  const publications = uses.data?.contents.publication ?? 0;
  const held = uses.data?.referrers ?? [];
  const remove = () =>
    form
      .run(() =>
        commit(`Deleted connection ${item.set.name}`, seen, [{ op: 'delete', kind: 'connection', id: item.id, contents: true }]),
      )
      .then((done) => done && go({ connection: undefined }));
  return (
    <Confirm
      open
      title={`Delete ${item.set.name}?`}
      action="Delete connection"
      disabled={!uses.data || held.length > 0 || form.busy}
      onConfirm={() => void remove()}
      onClose={onClose}
    >
      <p>
        {[counted(tags, 'tag'), ...(publications > 0 ? [counted(publications, 'publication')] : [])].join(', ')} and{' '}
        {counted(rules, 'alarm rule')} are deleted too. Recorded history stays in the database.
      </p>
      {held.length > 0 && <p className="text-act4">It cannot be deleted yet: {held.map((h) => h.words).join('; ')}.</p>}
      <FormTrouble form={form} />
    </Confirm>
  );
}
