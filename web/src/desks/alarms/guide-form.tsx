// The site's guide to priorities: what grave means, what soon means, and the priority that follows.

import { newId } from '../../api/client';
import { CONCERNS, type GuideSet } from '../../api/model';
import { commit, useMay } from '../../api/queries';
import { numberOf, useForm } from '../../parts/form';
import { CONCERN_WORDS, LEVEL_WORDS, useGuide } from '../../parts/guide';
import { PRIORITY_WORDS } from '../../parts/text';
import { Button, Choice, Field, FormTrouble, Input } from '../../parts/ui';

type View = NonNullable<ReturnType<typeof useGuide>>;

export function GuideForm() {
  const view = useGuide();
  return view ? <Guide key={view.id ?? ''} view={view} /> : null;
}

const valuesOf = (guide: GuideSet) => ({
  meanings: guide.meanings,
  priorities: guide.priorities,
  soon_min: String(guide.soon_min),
  later_min: String(guide.later_min),
});

function Guide({ view }: { view: View }) {
  const engineer = useMay('engineer');
  const form = useForm(valuesOf(view.guide), ['meanings', 'priorities', 'soon_min', 'later_min'], {
    follow: true,
    draft: 'guide to priorities',
  });
  const v = form.values;
  const save = () => {
    const set: GuideSet = {
      meanings: v.meanings,
      priorities: v.priorities,
      soon_min: numberOf(v.soon_min) ?? 0,
      later_min: numberOf(v.later_min) ?? 0,
    };
    const why = 'Changed the guide to priorities of alarms';
    return form.run(() =>
      commit(why, view.revision, [
        view.id ? { op: 'patch', kind: 'guide', id: view.id, set } : { op: 'create', kind: 'guide', id: newId(), set },
      ]),
    );
  };
  const minutes = (field: 'soon_min' | 'later_min', label: string) => (
    <Field label={label} error={form.error(field)} className="w-40">
      {(p) => (
        <Input
          {...p}
          className="figures w-20 text-right"
          inputMode="decimal"
          value={v[field]}
          onChange={(e) => form.set(field, e.target.value)}
        />
      )}
    </Field>
  );
  const times = [`within ${v.soon_min} min`, `within ${v.later_min} min`, 'later'];
  return (
    <form
      aria-label="Guide to priorities"
      className="rounded border border-teal bg-raised p-3"
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <fieldset disabled={!engineer} className="space-y-3">
        <div className="flex items-start gap-3">
          <h2 className="mt-5 mr-4 text-[1rem] font-semibold">Guide to priorities</h2>
          {minutes('soon_min', 'Act soon: within, min')}
          {minutes('later_min', 'Act later: within, min')}
        </div>
        <div className="space-y-3">
          <table className="w-full max-w-2xl" aria-label="Priorities that follow">
            <thead>
              <tr className="text-left text-sm text-soft">
                <th className="font-normal">Gravest consequence</th>
                {times.map((time) => (
                  <th key={time} className="font-normal">
                    {time}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {[2, 1, 0].map((level) => (
                <tr key={level}>
                  <th className="py-0.5 text-left font-normal">{LEVEL_WORDS[level + 1]}</th>
                  {times.map((time, column) => (
                    <td key={time} className="py-0.5 pr-2">
                      <Choice
                        className="w-full"
                        aria-label={`${LEVEL_WORDS[level + 1]}, ${time}`}
                        value={v.priorities[level]?.[column] ?? 1}
                        onChange={(e) =>
                          form.set(
                            'priorities',
                            v.priorities.map((row, i) =>
                              i === level ? row.map((old, j) => (j === column ? Number(e.target.value) : old)) : row,
                            ),
                          )
                        }
                      >
                        {[4, 3, 2, 1].map((priority) => (
                          <option key={priority} value={priority}>{`${priority} · ${PRIORITY_WORDS[priority]}`}</option>
                        ))}
                      </Choice>
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
          <table className="w-full" aria-label="What the levels mean">
            <thead>
              <tr className="text-left text-sm text-soft">
                <th className="font-normal">Means here</th>
                {LEVEL_WORDS.slice(1).map((level) => (
                  <th key={level} className="font-normal">
                    {level}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {CONCERNS.map((concern) => (
                <tr key={concern}>
                  <th className="py-0.5 pr-2 text-left font-normal">{CONCERN_WORDS[concern]}</th>
                  {[0, 1, 2].map((level) => (
                    <td key={level} className="py-0.5 pr-1">
                      <Input
                        aria-label={`${CONCERN_WORDS[concern]}, ${LEVEL_WORDS[level + 1]}`}
                        className="w-full"
                        value={v.meanings[concern]?.[level] ?? ''}
                        onChange={(e) => {
                          const said = [0, 1, 2].map((i) => (i === level ? e.target.value : (v.meanings[concern]?.[i] ?? '')));
                          form.set('meanings', { ...v.meanings, [concern]: said });
                        }}
                      />
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        {form.error('priorities') && <p className="text-sm text-act4">{form.error('priorities')}</p>}
      </fieldset>
      <FormTrouble form={form} />
      <div className="mt-2 flex gap-2">
        <Button kind="main" type="submit" disabled={!engineer || form.busy || !form.dirty}>
          Save guide
        </Button>
        <Button disabled={!form.dirty || form.busy} onClick={form.discard}>
          Discard changes
        </Button>
      </div>
    </form>
  );
}
