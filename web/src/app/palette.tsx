// Ctrl+K: any tag, place, connection, report, desk or action by a few letters of it.

import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Command } from 'cmdk';
import { Bell, Cable, FileText, type LucideIcon, MapPin, Play, Tag } from 'lucide-react';
import { useState } from 'react';
import { http, type Schemas, take } from '../api/client';
import { useSession } from '../api/queries';
import { choose } from '../parts/theme';
import { Popup } from '../parts/ui';
import { DESKS } from './desks';
import { signOut } from './session';
import { useGo } from './view';

interface Action {
  name: string;
  /** Further words by which it is found. */
  words: string;
  run: () => void;
}

const ICONS: Record<string, LucideIcon> = { place: MapPin, tag: Tag, connection: Cable, report: FileText };

/** The actions whose name or words hold every word that was typed. */
export function fitting<A extends Pick<Action, 'name' | 'words'>>(actions: readonly A[], text: string): A[] {
  const typed = text.toLowerCase().split(/\s+/).filter(Boolean);
  return actions.filter((a) => typed.every((word) => `${a.name} ${a.words}`.toLowerCase().includes(word)));
}

function useFound(text: string) {
  const words = text.trim();
  return useQuery({
    queryKey: ['items', 'find', words],
    enabled: words !== '',
    placeholderData: keepPreviousData,
    queryFn: () => take(http.GET('/api/find', { params: { query: { text: words, limit: 30 } } })),
  });
}

export function Palette({ open, onClose, onKeys }: { open: boolean; onClose: () => void; onKeys: () => void }) {
  return (
    <Popup open={open} title="Find anything" showTitle={false} onClose={onClose} className="top-24 w-[38rem] overflow-hidden">
      <Finder onClose={onClose} onKeys={onKeys} />
    </Popup>
  );
}

function Finder({ onClose, onKeys }: { onClose: () => void; onKeys: () => void }) {
  const [text, setText] = useState('');
  const go = useGo();
  const session = useSession();
  const found = useFound(text);
  const hits = text.trim() ? (found.data?.found ?? []) : [];
  const more = text.trim() ? (found.data?.total ?? 0) - hits.length : 0;
  const actions: Action[] = [
    ...DESKS.map((desk) => ({ name: desk.name, words: 'desk go to', run: () => go({}, desk.path) })),
    ...(session.data?.demo ? [{ name: 'Demo faults', words: 'go to', run: () => go({}, '/faults') }] : []),
    { name: 'Whole plant', words: 'place top all', run: () => go({ at: undefined }) },
    { name: 'Day theme', words: 'light colours', run: () => choose('day') },
    { name: 'Night theme', words: 'dark colours', run: () => choose('night') },
    { name: 'Theme of the system', words: 'colours', run: () => choose('system') },
    { name: 'Keyboard shortcuts', words: 'keys help', run: onKeys },
    { name: 'Print this desk', words: 'paper', run: () => setTimeout(() => window.print(), 100) },
    { name: 'Sign out', words: 'leave', run: () => void signOut() },
  ];
  const run = (action: () => void) => () => {
    onClose();
    action();
  };
  const goTo = (hit: Schemas['HitView']) => {
    if (hit.kind === 'place') go({ at: hit.id });
    else if (hit.kind === 'tag') go({ tag: hit.id });
    else if (hit.kind === 'connection') go({ connection: hit.id }, '/connect');
    else go({ report: hit.id }, '/reports');
  };
  // What was found may come after the last letter: the best is then the one that Enter takes.
  const best = hits[0]?.id ?? fitting(actions, text)[0]?.name ?? '';
  const [chosen, setChosen] = useState(best);
  const [known, setKnown] = useState(best);
  if (known !== best) {
    setKnown(best);
    setChosen(best);
  }
  return (
    <Command shouldFilter={false} label="Find anything" loop value={chosen} onValueChange={setChosen}>
      <Command.Input
        value={text}
        onValueChange={setText}
        placeholder="A tag, a place, a desk, something to do …"
        className="h-11 w-full border-b border-line bg-transparent px-4 text-[1rem] outline-none"
      />
      <Command.List className="max-h-[26rem] overflow-auto p-1.5">
        <Command.Empty className="px-3 py-4 text-soft">
          {found.isFetching ? 'Looking …' : 'No match. Try fewer letters, or words of the path.'}
        </Command.Empty>
        {hits.length > 0 && (
          <Command.Group heading="In the plant" className={GROUP}>
            {hits.map((hit) => (
              <Row
                key={hit.id}
                value={hit.id}
                icon={ICONS[hit.kind] ?? Bell}
                title={hit.title}
                note={hit.kind}
                onSelect={run(() => goTo(hit))}
              />
            ))}
            {more > 0 && (
              <p className="px-3 py-1 text-sm text-soft">and {more.toLocaleString('en')} more; type another word of the path</p>
            )}
          </Command.Group>
        )}
        {fitting(actions, text).length > 0 && (
          <Command.Group heading="Desks and actions" className={GROUP}>
            {fitting(actions, text).map((action) => (
              <Row key={action.name} value={action.name} icon={Play} title={action.name} note="" onSelect={run(action.run)} />
            ))}
          </Command.Group>
        )}
      </Command.List>
    </Command>
  );
}

const GROUP =
  '[&_[cmdk-group-heading]]:px-3 [&_[cmdk-group-heading]]:pt-1.5 [&_[cmdk-group-heading]]:text-sm [&_[cmdk-group-heading]]:text-soft';

function Row({
  value,
  icon: Icon,
  title,
  note,
  onSelect,
}: {
  value: string;
  icon: LucideIcon;
  title: string;
  note: string;
  onSelect: () => void;
}) {
  const cut = title.lastIndexOf('/');
  return (
    <Command.Item
      value={value}
      onSelect={onSelect}
      className="flex h-8 cursor-default items-center gap-2.5 rounded px-3 data-[selected=true]:bg-tint"
    >
      <Icon className="size-4 shrink-0 text-soft" aria-hidden />
      <span className="shrink-0 font-semibold">{title.slice(cut + 1)}</span>
      {/* The end of a long path tells more than its beginning. */}
      <span className="min-w-0 flex-1 truncate text-left text-soft [direction:rtl]">
        <bdi>{cut > 0 ? title.slice(0, cut).split('/').join(' / ') : ''}</bdi>
      </span>
      <span className="text-sm text-soft">{note}</span>
    </Command.Item>
  );
}
