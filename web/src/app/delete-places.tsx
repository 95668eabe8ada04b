// Asks before places go, with all that hangs on them and what keeps them.

import { useQueries } from '@tanstack/react-query';
import { commit } from '../api/queries';
import { type PlantTree, pathOf } from '../api/tree';
import { useForm } from '../parts/form';
import { counted } from '../parts/text';
import { Confirm } from '../parts/ui';
import { liesUnder, topsOf } from './tree';
import { usesOf } from './uses';
import { useGo, useView } from './view';

export function DeletePlaces({ tree, ids, onClose }: { tree: PlantTree; ids: string[]; onClose: () => void }) {
  const go = useGo();
  const { at } = useView();
  const form = useForm({}, []);
  const tops = topsOf(tree.byId, ids);
  const uses = useQueries({ queries: tops.map((id) => usesOf('place', id)) });
  const counts = (['place', 'tag', 'rule'] as const)
    .map((k) => [k, uses.reduce((sum, u) => sum + (u.data?.contents[k] ?? 0), 0)] as const)
    .filter(([, count]) => count > 0)
    .map(([k, count]) => counted(count, k === 'rule' ? 'alarm rule' : k));
  const names = uses.flatMap((u) => u.data?.names ?? []).slice(0, 40);
  const held = uses.flatMap((u) => u.data?.referrers ?? []);
  const trends = uses.flatMap((u) => u.data?.trends ?? []);
  const title = tops.length === 1 ? (tree.byId.get(tops[0] ?? '')?.name ?? '') : counted(tops.length, 'branch', 'branches');
  const why = tops.length === 1 ? pathOf(tree, tops[0]) : title;
  const remove = () =>
    form
      .run(() =>
        commit(
          `Deleted ${why}`,
          tree.revision,
          tops.map((id) => ({ op: 'delete', kind: 'place', id, contents: true })),
        ),
      )
      .then((done) => {
        if (!done) return;
        onClose();
        const gone = tops.find((id) => at && liesUnder(tree.byId, at, id));
        if (gone) go({ at: tree.byId.get(gone)?.parent ?? undefined, tag: undefined });
      });
  return (
    <Confirm
      open
      title={`Delete ${title}?`}
      action={counts.length > 0 ? 'Delete with its contents' : 'Delete'}
      disabled={uses.some((u) => !u.data) || held.length > 0 || form.busy}
      onConfirm={() => void remove()}
      onClose={onClose}
    >
      {counts.length > 0 ? (
        <>
          <p>{counts.join(', ')} are deleted too. Recorded history stays in the database.</p>
          <ul className="max-h-40 overflow-auto text-sm text-soft">
            {names.map((name) => (
              <li key={name}>{name.replaceAll('/', ' / ')}</li>
            ))}
          </ul>
        </>
      ) : (
        <p>It is empty.</p>
      )}
      {held.length > 0 && (
        <>
          <p className="text-act4">It cannot be deleted yet:</p>
          <ul className="max-h-40 overflow-auto text-act4">
            {held.map((r) => (
              <li key={`${r.id} ${r.words}`}>{r.words}</li>
            ))}
          </ul>
        </>
      )}
      {trends.length > 0 && <p className="text-soft">Saved trends lose tags: {trends.join(', ')}.</p>}
      {form.other && <p className="text-act4">{form.other}</p>}
    </Confirm>
  );
}
