// The model: every tag in a sheet, and what a place is.

import { useItems, useMay } from '../../api/queries';
import { pathOf, useTree } from '../../api/tree';
import { useGo, useView } from '../../app/view';
import { counted } from '../../parts/text';
import { Button, DeskHead, DeskPart, Trouble } from '../../parts/ui';
import { Classes } from './classes/classes';
import { Files } from './files';
import { Formulas } from './formulas';
import { PlacePage } from './place';
import { StateSets } from './states';
import { TagSheet } from './tag-sheet';

export function Model() {
  const { at, part } = useView();
  const go = useGo();
  const tree = useTree();
  const engineer = useMay('engineer');
  const own = useItems('place', { only: at }, at !== undefined);
  if (own.error) return <Trouble error={own.error} />;
  if (!tree) return null;
  const spot = at ? tree.byId.get(at) : undefined;
  const place = own.data?.items.find((p) => p.id === at);
  const tab = (name: string, on: boolean, to: string | undefined) => (
    <DeskPart on={on} onClick={() => go({ part: to })}>
      {name}
    </DeskPart>
  );
  const idle = spot && !spot.in_service;
  return (
    <div className="flex h-full flex-col">
      <DeskHead
        path={pathOf(tree, spot?.parent).replaceAll('/', ' / ')}
        title={spot?.name ?? 'Whole plant'}
        note={spot ? `${spot.level}${idle ? ' · out of service' : ''}` : counted(tree.byId.size, 'place')}
      >
        {tab('Tags', !['formulas', 'classes', 'place', 'states', 'files'].includes(part ?? ''), undefined)}
        {tab('Formulas', part === 'formulas', 'formulas')}
        {tab('Classes', part === 'classes', 'classes')}
        {tab(spot ? 'Place' : 'Places', part === 'place', 'place')}
        {tab('State names', part === 'states', 'states')}
        {tab('Files', part === 'files', 'files')}
      </DeskHead>
      {part === 'formulas' ? (
        <Formulas key={at ?? ''} tree={tree} disabled={!engineer} />
      ) : part === 'classes' ? (
        <Classes tree={tree} disabled={!engineer} />
      ) : part === 'place' ? (
        <PlacePage tree={tree} place={place} disabled={!engineer} />
      ) : part === 'states' ? (
        <StateSets disabled={!engineer} />
      ) : part === 'files' ? (
        <Files key={at ?? ''} tree={tree} disabled={!engineer} />
      ) : tree.byId.size > 0 ? (
        <TagSheet key={at ?? ''} writable={engineer} />
      ) : (
        <div className="max-w-lg">
          <p className="text-soft">
            The model is the plant as people think of it: sites, areas, units and equipment, and the tags that belong to them.
            Begin with the site.
          </p>
          <div className="mt-3 flex gap-2">
            <Button kind="main" onClick={() => go({ part: 'place' })}>
              Add a site
            </Button>
            <Button onClick={() => go({ part: 'files' })}>Import a file</Button>
          </div>
        </div>
      )}
    </div>
  );
}
