// Tokens of programs that push values: created, shown once, revoked; those that read lookups are revoked here too.

import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { http, take } from '../../api/client';
import type { Item } from '../../api/model';
import { queries, useItems } from '../../api/queries';
import { CopyButton } from '../../parts/copy-button';
import { complain, useForm } from '../../parts/form';
import { PickField } from '../../parts/picker';
import { moment } from '../../parts/text';
import { Button, Choice, Confirm, Field, FormTrouble, Input, Tick, Trouble } from '../../parts/ui';
import { LANGUAGES, type Language, pushCode, TOKEN } from './push-code';

export function Tokens({ item }: { item: Item<'connection'> }) {
  const tokens = useQuery({ queryKey: ['tokens'], queryFn: () => take(http.GET('/api/tokens')), staleTime: 0 });
  const places = useItems('place').data?.items ?? [];
  const empty = { name: '', place: '', days: '', most: '20000' };
  const form = useForm(empty, ['name', 'place', 'expires_at', 'most_values'], { draft: 'token' });
  const [made, setMade] = useState<string | null>(null);
  const [leaving, setLeaving] = useState<{ id: string; name: string } | null>(null);
  const again = () => queries.invalidateQueries({ queryKey: ['tokens'] });
  async function make() {
    const done = await form.run(async ({ name, place, days, most }) => {
      const expires_at = days ? new Date(Date.now() + Number(days) * 86_400_000).toISOString() : '';
      const body = { name, reads: false, place: place || null, expires_at, most_values: Number(most) };
      const answer = await take(http.POST('/api/tokens', { body }));
      setMade(answer.token);
    });
    if (done) form.reset(empty);
    await again();
  }
  const back = async (id: string) => {
    setLeaving(null);
    await take(http.DELETE('/api/tokens/{id}', { params: { path: { id } } })).catch(complain);
    await again();
  };
  return (
    <div className="max-w-3xl">
      <p className="mb-2 text-soft">
        A program sends its token with each request and may push to the tags under its place. Send one object, an array, or a
        stream of one object per line; errors are reported per item, the rest is stored.
      </p>
      <form
        className="mb-3 flex flex-wrap items-start gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          void make();
        }}
      >
        <Field label="Name" error={form.error('name')} className="w-56">
          {(p) => (
            <Input
              {...p}
              placeholder="Boiler house gateway"
              value={form.values.name}
              onChange={(e) => form.set('name', e.target.value)}
            />
          )}
        </Field>
        <Field label="May push under" error={form.error('place')} className="w-64">
          {(p) => (
            <PickField
              field={p}
              label="May push under"
              kind="place"
              none="the whole plant"
              value={places.find((place) => place.id === form.values.place)}
              onChange={(id) => form.set('place', id ?? '')}
            />
          )}
        </Field>
        <Field label="Ends" error={form.error('expires_at')} className="w-32">
          {(p) => (
            <Choice {...p} value={form.values.days} onChange={(e) => form.set('days', e.target.value)}>
              <option value="">never</option>
              <option value="30">in 30 days</option>
              <option value="90">in 90 days</option>
              <option value="365">in a year</option>
            </Choice>
          )}
        </Field>
        <Field label="Most values per second" error={form.error('most_values')} className="w-40">
          {(p) => (
            <Input {...p} inputMode="numeric" value={form.values.most} onChange={(e) => form.set('most', e.target.value)} />
          )}
        </Field>
        <Button kind="main" type="submit" className="mt-5" disabled={form.busy}>
          Create token
        </Button>
      </form>
      <FormTrouble form={form} />
      {made && (
        <div role="status" className="mb-3 flex flex-wrap items-center gap-3 rounded border border-teal p-2">
          <span>Copy it now, it is not shown again:</span>
          <code className="figures break-all">{made}</code>
          <CopyButton text={made} />
        </div>
      )}
      <Code item={item} token={made} />
      <Trouble error={tokens.error} />
      {tokens.data && tokens.data.length > 0 && (
        <table className="w-full border border-line text-left">
          <thead className="bg-band text-sm">
            <tr className="h-7">
              <th className="px-2 font-semibold">Token</th>
              <th className="px-2 font-semibold">Reaches</th>
              <th className="px-2 font-semibold">Created</th>
              <th className="px-2 font-semibold">Last used</th>
              <th className="px-2 font-semibold">Ends</th>
              <th className="px-2 text-right font-semibold">Values/s</th>
              <th aria-label="Revoke" />
            </tr>
          </thead>
          <tbody>
            {tokens.data.map((token) => (
              <tr key={token.id} className="h-8 border-t border-line">
                <td className="px-2">
                  {token.name}
                  {token.reads && <span className="text-soft"> · reads lookups</span>}
                </td>
                <td className="px-2 text-soft">{token.place_path.replaceAll('/', ' / ') || 'the whole plant'}</td>
                <td className="px-2 text-soft">
                  {moment(token.made_at)} by {token.made_by}
                </td>
                <td className="px-2 text-soft">{token.used_at ? moment(token.used_at) : 'never'}</td>
                <td className="px-2 text-soft">{token.expires_at ? moment(token.expires_at) : 'never'}</td>
                <td className="figures px-2 text-right text-soft">{token.reads ? '' : token.most_values}</td>
                <td className="px-2 text-right">
                  <Button kind="quiet" onClick={() => setLeaving(token)}>
                    Revoke…
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Confirm
        open={leaving !== null}
        title={`Revoke the token “${leaving?.name}”?`}
        action="Revoke"
        onConfirm={() => leaving && void back(leaving.id)}
        onClose={() => setLeaving(null)}
      >
        <p>Requests with it are refused from then on.</p>
      </Confirm>
    </div>
  );
}

/** Tags among which one chooses, and those that are chosen at first. */
const MOST = 200;
const FIRST = 3;

/** Code that pushes values of some tags of the connection, with the token that was just made. */
function Code({ item, token }: { item: Item<'connection'>; token: string | null }) {
  const [language, setLanguage] = useState<Language>('shell');
  const [chosen, setChosen] = useState<ReadonlySet<string> | null>(null);
  const tags = useItems('tag', { connection: item.id }).data?.items.slice(0, MOST) ?? [];
  const isChosen = (id: string, at: number) => (chosen ? chosen.has(id) : at < FIRST);
  const some = tags.filter((tag, at) => isChosen(tag.id, at));
  const wanted = some.map(({ title, set }) => ({ title, type: set.point.type ?? 'number' }));
  const example = { title: 'Path/of/tag', type: 'number' };
  const code = pushCode(language, window.location.origin, token ?? TOKEN, wanted.length > 0 ? wanted : [example]);
  return (
    <section aria-label="Ready code" className="mb-3 rounded border border-line p-2">
      <div className="mb-2 flex flex-wrap items-center gap-2">
        <h3 className="mr-2 font-semibold">Ready code</h3>
        {LANGUAGES.map(([key, name]) => (
          <Button
            key={key}
            kind={language === key ? 'main' : 'plain'}
            aria-pressed={language === key}
            onClick={() => setLanguage(key)}
          >
            {name}
          </Button>
        ))}
        <CopyButton text={code} className="ml-auto">
          Copy code
        </CopyButton>
      </div>
      {tags.length > 1 && (
        <fieldset className="mb-2 flex max-h-24 flex-wrap gap-x-4 gap-y-1 overflow-auto">
          <legend className="text-sm text-soft">For these tags</legend>
          {tags.map((tag, at) => (
            <Tick
              key={tag.id}
              label={tag.title.replaceAll('/', ' / ')}
              checked={isChosen(tag.id, at)}
              onChange={(on) => {
                const next = new Set(some.map(({ id }) => id));
                if (on) next.add(tag.id);
                else next.delete(tag.id);
                setChosen(next);
              }}
            />
          ))}
        </fieldset>
      )}
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keyboard */}
      <pre tabIndex={0} className="max-h-64 overflow-auto rounded border border-line bg-paper p-2 text-xs">
        {code}
      </pre>
      <p className="mt-1 text-sm text-soft">
        {token
          ? 'With the token that was just made; it is not shown again.'
          : `Create a token, and the code holds it; until then ${TOKEN} stands for it.`}
      </p>
    </section>
  );
}
