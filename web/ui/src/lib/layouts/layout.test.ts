import { describe, expect, it } from 'vitest';

import type { LayoutField } from '../api/client';
import { addField, bytesAt, fieldAt, moveEnd, moveStart, ofType } from './layout';

const fields = (): LayoutField[] => [
  { name: 'hut', start: 2, length: 3, type: 'text' },
  { name: 'at', start: 5, length: 12, type: 'text' },
  { name: 'sky', start: 20, length: 5, type: 'text' },
];
const places = (list: LayoutField[]) => list.map((f) => `${f.name} ${f.start}+${f.length}`).join(', ');

describe('edges of fields', () => {
  it('move, with the following fields along', () => {
    expect(places(moveEnd(fields(), 'hut', 7, true))).toBe('hut 2+5, at 7+12, sky 22+5');
    expect(places(moveEnd(fields(), 'at', 10, true))).toBe('hut 2+3, at 5+5, sky 13+5');
  });
  it('move, and the next field gives up what is taken', () => {
    expect(places(moveEnd(fields(), 'hut', 7, false))).toBe('hut 2+5, at 7+10, sky 20+5');
    expect(places(moveEnd(fields(), 'hut', 4, false))).toBe('hut 2+2, at 4+13, sky 20+5');
    expect(places(moveEnd(fields(), 'at', 18, false))).toBe('hut 2+3, at 5+13, sky 20+5');
  });
  it('leave each field a character', () => {
    expect(places(moveEnd(fields(), 'hut', 0, false))).toBe('hut 2+1, at 3+14, sky 20+5');
    expect(places(moveEnd(fields(), 'hut', 99, false))).toBe('hut 2+14, at 16+1, sky 20+5');
    expect(places(moveStart(fields(), 'sky', 99))).toBe('hut 2+3, at 5+12, sky 24+1');
    expect(places(moveStart(fields(), 'at', 1))).toBe('hut 2+1, at 3+14, sky 20+5');
  });
  it('of a field that is not there change nothing', () => {
    expect(moveEnd(fields(), 'moon', 3, true)).toEqual(fields());
    expect(moveStart(fields(), 'moon', 3)).toEqual(fields());
  });
});

describe('drawing', () => {
  it('adds a field where none stands', () => {
    expect(places(addField(fields(), 19, 18)!)).toBe('hut 2+3, at 5+12, field_18 18+2, sky 20+5');
    expect(addField(fields(), 16, 18)).toBeUndefined();
  });
  it('finds the field of a place', () => {
    expect(fieldAt(fields(), 16)?.name).toBe('at');
    expect(fieldAt(fields(), 17)).toBeUndefined();
  });
});

describe('records', () => {
  const layout = {
    code: { start: 1, length: 1 },
    records: [
      { code: 'W', fields: [] },
      { code: 'C', fields: [] },
    ],
  };
  it('are told apart by their code', () => {
    expect(ofType(layout, 1, ['W1', 'C2', 'W3', 'X'])).toEqual([1]);
    expect(ofType({ records: [{ fields: [] }] }, 0, ['W1', 'C2'])).toEqual([0, 1]);
  });
  it('show the bytes of any place', () => {
    expect(bytesAt('Høyt', '48c3b87974', 2, false)).toBe('c3 b8');
    expect(bytesAt('????', '48c3b87974', 2, true)).toBe('c3');
    expect(bytesAt('ab', '6162', 9, false)).toBe('');
  });
});
