// The operator's screen: a large place by its areas, or every piece of equipment as a card, in the engineer's order.

import { Monitor } from 'lucide-react';
import { useMemo, useState } from 'react';
import { useItems, useMay } from '../../api/queries';
import { pathOf, useTree } from '../../api/tree';
import { useGo, useView } from '../../app/view';
import { counted } from '../../parts/text';
import { Button, DeskHead, DeskPart, Empty, Trouble } from '../../parts/ui';
import { Card } from './card';
import { cardsOf, LARGE } from './cards';
import { CommandSeveral } from './command';
import { Overview } from './overview';
import { Troubles, useTroubles } from './troubles';
import { useWall } from './wall';

export function Board() {
  const { at, part, span } = useView();
  const go = useGo();
  const wall = part === 'wall';
  const { page, pages } = useWall(wall, span);
  const operator = useMay('operator');
  const [commanding, setCommanding] = useState(false);
  const tree = useTree();
  const place = at ? tree?.byId.get(at) : undefined;
  if (!tree) return null;
  const large = !place || LARGE.includes(place.level);
  const overview = wall || part === 'overview' || (part !== 'cards' && large);
  const shown = overview ? 'overview' : 'cards';
  const parts = (
    <>
      {overview && operator && !commanding && <Button onClick={() => setCommanding(true)}>Command several…</Button>}
      {(['overview', 'cards'] as const).map((one) => (
        <DeskPart key={one} on={shown === one} onClick={() => go({ part: one })}>
          {one === 'overview' ? 'Overview' : 'Cards'}
        </DeskPart>
      ))}
      {overview && (
        <Button title="For a large screen that nobody operates" onClick={() => go({ part: 'wall', tag: undefined })}>
          <Monitor className="size-4" /> Wall
        </Button>
      )}
    </>
  );
  const head = (note: string) => (
    <DeskHead
      path={pathOf(tree, place?.parent).replaceAll('/', ' / ')}
      title={place?.name ?? 'Whole plant'}
      note={`${place ? `${place.level} · ` : ''}${note}`}
    >
      {wall ? (
        <>
          {pages > 1 && (
            <span className="text-soft">
              page <span className="figures">{page + 1}</span> of <span className="figures">{pages}</span>
            </span>
          )}
          <Button kind="quiet" onClick={() => go({ part: undefined, span: undefined })}>
            Leave wall
          </Button>
        </>
      ) : (
        parts
      )}
    </DeskHead>
  );
  if (!overview) return <Cards head={head} />;
  return (
    <Overview head={head} empty={<Nothing below={Boolean(place)} />}>
      {commanding && <CommandSeveral key={at} at={at} onClose={() => setCommanding(false)} />}
    </Overview>
  );
}

/** What stands where nothing is read. */
function Nothing({ below }: { below: boolean }) {
  const go = useGo();
  const engineer = useMay('engineer');
  return (
    <Empty
      title={below ? 'Nothing is read here yet' : 'No tags yet'}
      action={
        engineer && (
          <Button kind="main" onClick={() => go({}, '/connect')}>
            Connect a controller
          </Button>
        )
      }
    >
      The board shows what every unit of the plant is doing. It fills by itself once a controller is connected and some of its
      registers have become tags.
    </Empty>
  );
}

function Cards({ head }: { head: (note: string) => React.ReactNode }) {
  const { at } = useView();
  const tree = useTree();
  const tags = useItems('tag', { under: at });
  const rules = useItems('rule', { under: at });
  const cards = useMemo(() => (tree ? cardsOf(tree, tags.data?.items ?? [], at) : []), [tree, tags.data, at]);
  const read = useMemo(() => cards.map((card) => [card, ...card.parts].flatMap((c) => c.tags)), [cards]);
  const troubles = useTroubles(read);
  const total = tags.data?.total ?? 0;
  if (tags.error) return <Trouble error={tags.error} />;
  if (!tags.data || !tree) return null;
  const shown = tags.data.items.length;
  return (
    <>
      {head(`${counted(total, 'tag')}${total > shown ? `, the first ${shown} shown; choose a place to see the rest` : ''}`)}
      {total === 0 && <Nothing below={Boolean(at)} />}
      <Troubles troubles={troubles} least={2} />
      <div className="grid grid-cols-[repeat(auto-fill,minmax(27.5rem,1fr))] items-start gap-3">
        {cards.map((card) => (
          <Card key={card.place.id} card={card} rules={rules.data?.items ?? []} troubles={troubles} />
        ))}
      </div>
    </>
  );
}
