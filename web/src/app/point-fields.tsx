// Where a tag is read: the fields that its connection's kind needs, and no others.

import type { Schemas } from '../api/client';
import type { Point } from '../api/model';
import { type FormField, settingsOf, type Values, valuesOf } from '../parts/described';
import { DescribedFields } from '../parts/described-fields';
import { useKind } from '../parts/kinds';
import { Button, Field, Input } from '../parts/ui';

interface Props {
  kind: string;
  source: string;
  point: Partial<Point>;
  onChange: (point: Partial<Point>) => void;
  error: (field: string) => string | undefined;
  /** The address as it goes on the wire, and its other readings. */
  check: (Omit<Schemas['PointView'], 'wrong'> & { wrong: string[][] }) | undefined;
  disabled: boolean;
}

export function PointFields({ kind: name, source, point, onChange, error, check, disabled }: Props) {
  const kind = useKind(name);
  if (!kind) return null;
  if (point.block || kind.point.length === 0) {
    return (
      <div>
        <p className="text-sm text-soft">{point.block ? 'Member of a block' : kind.title}</p>
        <p>{source || 'It no longer exists.'}</p>
        {error('block') && <p className="text-sm text-act4">{error('block')}</p>}
      </div>
    );
  }
  const values = valuesOf(kind.point, point);
  const typed = kind.point.find((field) => field.control === 'address');
  const put = (next: Values) => onChange(settingsOf(kind.point, next, null) as Partial<Point>);
  const address = (field: FormField) => {
    const wrong = check?.wrong.map(([at, message]) => `${at}: ${message}`)[0]?.replace(/^point\.\w+: /, '');
    const set = (text: string) => put({ ...values, [field.key]: text });
    return (
      <Field
        label={field.label}
        error={error(field.key) ?? wrong}
        hint={check?.shown && `on the wire: ${check.shown}${check.now ? `, holds ${check.now}` : ''}`}
      >
        {(p) => (
          <Input {...p} disabled={disabled} value={String(values[field.key] ?? '')} onChange={(e) => set(e.target.value)} />
        )}
      </Field>
    );
  };
  return (
    <div className="grid grid-cols-6 gap-2">
      <DescribedFields
        fields={kind.point}
        values={values}
        onChange={put}
        error={error}
        special={(field) => (field.control === 'address' ? address(field) : undefined)}
        disabled={disabled}
      />
      {typed &&
        check?.others.map((other) => (
          <p key={other.write} className="col-span-6 flex items-center gap-2 text-sm text-soft">
            <span className="flex-1">
              The address can also be read {other.why}: {other.shown}
              {other.now && `, holds ${other.now}`}
            </span>
            <Button kind="quiet" disabled={disabled} onClick={() => put({ ...values, [typed.key]: other.write })}>
              Take that
            </Button>
          </p>
        ))}
    </div>
  );
}
