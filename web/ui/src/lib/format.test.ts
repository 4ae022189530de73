import { describe, expect, it } from 'vitest';

import { ago, bytes, change, count, duration, spans, stateOf } from './format';

describe('figures', () => {
  it.each([
    [0, '0'],
    [999, '999'],
    [48912, '48 912'],
    [1234567, '1 234 567'],
    [undefined, '–'],
  ])('count(%s) is %s', (n, want) => expect(count(n)).toBe(want));

  it.each([
    [100, 100, '±0'],
    [48912, 48875, '−37'],
    [48738, 1152, '−97.6 %'],
    [10, 12, '+2'],
    [0, 20000, '+20 000'],
  ])('change from %s to %s is %s', (a, b, want) => expect(change(a, b)).toBe(want));

  it.each([
    [0.406, '0.41 s'],
    [42.04, '42.0 s'],
    [68, '1 m 08 s'],
    [7500, '2 h 05 m'],
  ])('duration(%s) is %s', (s, want) => expect(duration(s)).toBe(want));

  it.each([
    [912, '912 B'],
    [4_200_000, '4.2 MB'],
    [31_000, '31 kB'],
  ])('bytes(%s) is %s', (n, want) => expect(bytes(n)).toBe(want));
});

describe('times', () => {
  const now = new Date('2026-11-23T12:00:00Z');
  it.each([
    ['2026-11-23T11:59:50Z', 'just now'],
    ['2026-11-23T11:54:00Z', '6 min ago'],
    ['2026-11-23T15:00:00Z', 'in 3 h'],
    ['2026-11-20T12:00:00Z', '3 days ago'],
  ])('%s is %s', (t, want) => expect(ago(t, now)).toBe(want));
});

describe('words', () => {
  it('says that rows were set aside', () => {
    expect(stateOf({ state: 'done', rows_set_aside: 41 })).toEqual({ word: 'done with 41 set aside', ink: 'aside' });
    expect(stateOf({ state: 'done', rows_set_aside: 0 }).word).toBe('done');
  });
  it('parts words from data', () => {
    expect(spans('keep rows where `nights > 0`')).toEqual([
      { text: 'keep rows where ', data: false },
      { text: 'nights > 0', data: true },
    ]);
  });
});
