import { describe, expect, it } from 'vitest';
import { changed, type FormField, isShown, settingsOf, taken, usual, valuesOf } from './described';

const field = (key: string, more: object): FormField =>
  ({ key, label: key, hint: '', default: null, width: 1, ...more }) as FormField;

const WAY = field('settings.way', { control: 'choice', default: 'net', numbers: false, options: [] });
const HOST = field('settings.host', { control: 'text', default: '', only: { field: 'settings.way', is: ['net', 'safe'] } });
const port = (key: string) =>
  field(key, {
    control: 'number',
    default: 502,
    defaults: [{ while: { field: 'settings.way', is: ['safe'] }, default: 802 }],
    only: { field: 'settings.way', is: ['net', 'safe'] },
  });
const KEY = field('settings.tls.key', { control: 'pem_secret', only: { field: 'settings.way', is: ['safe'] } });
const SPARE = field('settings.spare', { control: 'list', default: [], noun: 'Spare', most: 3, fields: [port('port')] });
const EVERY = field('interval_ms', { control: 'number', default: 1000 });
const FIELDS = [WAY, HOST, port('settings.port'), KEY, SPARE, EVERY];

describe('the values of a described form', () => {
  it('are what is stored, and what holds by default where nothing is', () => {
    const values = valuesOf(FIELDS, { interval_ms: 500, settings: { way: 'safe', host: 'a', spare: [{}, { port: 7 }] } });
    expect(values).toEqual({
      'settings.way': 'safe',
      'settings.host': 'a',
      'settings.port': 802,
      'settings.tls.key': null,
      'settings.spare': [{ port: 802 }, { port: 7 }],
      interval_ms: 500,
    });
    expect(valuesOf(FIELDS, undefined)['settings.port']).toBe(502);
  });

  it('hide a field while its condition does not hold', () => {
    expect(isShown(HOST, valuesOf(FIELDS, {}))).toBe(true);
    expect(isShown(HOST, { 'settings.way': 'line' })).toBe(false);
    expect(usual(port('p'), { 'settings.way': 'line' })).toBe(502);
    const whenSpare = field('settings.takeover', { control: 'tick', default: true, only: { field: 'settings.spare', is: [] } });
    expect(isShown(whenSpare, { 'settings.spare': [] })).toBe(false);
    expect(isShown(whenSpare, { 'settings.spare': [{ port: 7 }] })).toBe(true);
  });

  it('take another default along, and leave what somebody chose', () => {
    const stored = { settings: { host: 'a', spare: [{}, { port: 7 }] } };
    const next = changed(FIELDS, valuesOf(FIELDS, stored), 'settings.way', 'safe');
    expect(next['settings.port']).toBe(802);
    expect(next['settings.spare']).toEqual([{ port: 802 }, { port: 7 }]);
    const own = changed(FIELDS, { ...valuesOf(FIELDS, stored), 'settings.port': 1502 }, 'settings.way', 'safe');
    expect(own['settings.port']).toBe(1502);
    expect(changed(FIELDS, next, 'settings.way', 'net')['settings.port']).toBe(502);
  });
});

describe('what was found out', () => {
  it('goes into its field, also in a row of a list, as the kind of value the field holds', () => {
    const on = field('settings.on', { control: 'tick', default: false });
    const fields = [...FIELDS, on];
    const values = valuesOf(fields, { settings: { spare: [{}, { port: 7 }] } });
    expect(taken(fields, values, 'settings.host', '10.0.4.21')['settings.host']).toBe('10.0.4.21');
    expect(taken(fields, values, 'interval_ms', '250').interval_ms).toBe(250);
    expect(taken(fields, values, 'settings.on', 'true')['settings.on']).toBe(true);
    expect(taken(fields, values, 'settings.spare[1].port', '8')['settings.spare']).toEqual([{ port: 502 }, { port: 8 }]);
    expect(taken(fields, values, 'settings.way', 'safe')['settings.port']).toBe(802);
    expect(taken(fields, values, 'settings.nothing', '1')).toBe(values);
  });
});

describe('what is sent of a described form', () => {
  it('leaves out what is only shown', () => {
    const shown = field('own', { control: 'own_certificate' });
    expect(settingsOf([shown], { own: 'x' })).toEqual({});
  });

  it('is what differs from the defaults, nested, without what is hidden', () => {
    const values = { ...valuesOf(FIELDS, {}), 'settings.host': '10.0.4.21', interval_ms: 250 };
    expect(settingsOf(FIELDS, values)).toEqual({ settings: { host: '10.0.4.21' }, interval_ms: 250 });
    expect(settingsOf(FIELDS, { ...values, 'settings.way': 'line' })).toEqual({ settings: { way: 'line' }, interval_ms: 250 });
  });

  it('says a default that the server does not know to depend on another field', () => {
    const values = changed(FIELDS, valuesOf(FIELDS, {}), 'settings.way', 'safe');
    const spare = { ...values, 'settings.spare': [{ port: 802 }] };
    expect(settingsOf(FIELDS, spare)).toEqual({ settings: { way: 'safe', port: 802, spare: [{ port: 802 }] } });
  });

  it('keeps what was said before even where it equals the default, and takes back what was cleared', () => {
    const before = { interval_ms: 1000, settings: { way: 'net', port: 502 } };
    const values = valuesOf(FIELDS, before);
    expect(settingsOf(FIELDS, values, before)).toEqual({ interval_ms: 1000, settings: { way: 'net', port: 502 } });
    const cleared = { ...values, interval_ms: null, 'settings.port': null };
    expect(settingsOf(FIELDS, cleared, before)).toEqual({ interval_ms: null, settings: { way: 'net' } });
  });

  it('keeps a text that is no number for the server to refuse, and a secret that is stored', () => {
    const before = { settings: { way: 'safe', tls: { key: { kept: true } } } };
    const values = { ...valuesOf(FIELDS, before), 'settings.port': '5x' };
    expect(settingsOf(FIELDS, values, before)).toEqual({ settings: { way: 'safe', port: '5x', tls: { key: { kept: true } } } });
    expect(settingsOf(FIELDS, { ...values, 'settings.tls.key': null }, before)).toEqual({
      settings: { way: 'safe', port: '5x' },
    });
  });

  it('without a before, as for the source of a tag, says all that is not empty', () => {
    const point = [
      field('type', { control: 'choice', default: 'u16' }),
      field('bit', { control: 'number' }),
      field('address', { control: 'address', default: '' }),
    ];
    expect(settingsOf(point, valuesOf(point, { address: '1' }), null)).toEqual({ type: 'u16', address: '1' });
  });
});
