// What of a tag a trend shows: its value, or a figure that a recorder keeps.

import { useQuery } from '@tanstack/react-query';
import { http, take } from '../../api/client';
import { tagIn } from '../../parts/figure';
import { spanWords } from '../../parts/text';
import { Choice } from '../../parts/ui';

interface Props {
  /** What is shown, as questions to history name it. */
  name: string;
  title: string;
  onPick: (name: string) => void;
}

export function TrackChoice({ name, title, onPick }: Props) {
  const tag = tagIn(name);
  const tracks = useQuery({
    queryKey: ['items', 'tracks', tag],
    queryFn: () => take(http.GET('/api/history/tracks', { params: { query: { tag } } })),
  });
  const all = tracks.data ?? [];
  if (all.length === 0) return null;
  return (
    <Choice
      aria-label={`What of ${title}`}
      className="h-6 w-22 border-transparent px-0.5 text-sm text-soft"
      value={name}
      onChange={(e) => onPick(e.target.value)}
    >
      <option value={tag}>value</option>
      {all.map((one) => (
        <option key={one.name} value={one.name}>
          {one.track} · {one.every_s ? `${spanWords(one.every_s)}, ` : ''}
          {one.recorder_name || 'a deleted recorder'}
        </option>
      ))}
      {name !== tag && !all.some((one) => one.name === name) && <option value={name}>not kept any more</option>}
    </Choice>
  );
}
