import { describe, expect, it } from 'vitest';
import { bytesWords, mentions, naming, owned, ownNaming, pieces, placeWords, typedBefore } from './text';

describe('a formula as text', () => {
  it('finds the tags it names, with masked characters', () => {
    const path = 'EX-1/"Level" \\ raw';
    const text = `${naming(path)} * 2 + at( "b" )`;
    expect(mentions(text).map((m) => m.path)).toEqual([path, 'b']);
    expect(text.slice(mentions(text)[1]?.from, mentions(text)[1]?.to)).toBe('at( "b" )');
    expect(pieces(text).map((p) => (typeof p === 'string' ? p : p.path))).toEqual([path, ' * 2 + ', 'b']);
    expect(mentions('format("x") + "at(1)"')).toEqual([]);
  });

  it.each([
    ['aver', { kind: 'word', from: 0, typed: 'aver' }],
    ['2 * mill pow', { kind: 'word', from: 4, typed: 'mill pow' }],
    ['at("a") in lev', { kind: 'word', from: 11, typed: 'lev' }],
    ['1 + at("EX-1 lev', { kind: 'path', from: 4, typed: 'EX-1 lev' }],
    ['2 * own("Lev', { kind: 'path', from: 4, typed: 'Lev' }],
    ['average(at("a"), "10m', undefined],
    ['at("a") + ', undefined],
    ['at("a") + EX-1', { kind: 'word', from: 10, typed: 'EX-1' }],
  ])('knows what is being typed in %s', (text, wanted) => {
    expect(typedBefore(text, text.length)).toEqual(wanted);
  });

  it('finds the properties that a class names', () => {
    const text = `${ownNaming('Level "raw"')} - at("a") * own( "Zone 2/Temperature" )`;
    expect(owned(text).map((m) => m.path)).toEqual(['Level "raw"', 'Zone 2/Temperature']);
    expect(mentions(text).map((m) => m.path)).toEqual(['a']);
  });

  it('says where something is', () => {
    const text = `${naming('Mill/Power')} + foo(1)`;
    expect([placeWords(text, 17, 18), placeWords(text, 5, 7), placeWords(text, 19, 22)]).toEqual(['+', 'Mill / Power', 'foo']);
  });

  it('says how much is remembered', () => {
    expect([128, 28_800, 1_500_000].map(bytesWords)).toEqual(['128 bytes', '29 kB', '1.5 MB']);
  });
});
