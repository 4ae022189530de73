import { describe, expect, it } from 'vitest';

import type { Column, Rows } from '../../api/client';
import { quoteName } from '../../code/words';
import { aggregateFor, choiceLines, freeColumn, moved, put, samples } from './settings';

const columns = ['hut', 'night', 'beds'].map((name) => ({ name, type: 'text' })) as Column[];

describe('settings', () => {
  it('leaves out what is emptied unless it must be there', () => {
    expect(put({ a: 1, b: 'x' }, 'b', '')).toEqual({ a: 1 });
    expect(put({ a: 1, b: 'x' }, 'b', '', ['b'])).toEqual({ a: 1, b: '' });
    expect(put({ a: [1] }, 'a', [])).toEqual({});
    expect(put({}, 'rows', 0)).toEqual({ rows: 0 });
  });

  it('moves an entry within its list and never out of it', () => {
    expect(moved(['a', 'b', 'c'], 2, -1)).toEqual(['a', 'c', 'b']);
    expect(moved(['a', 'b', 'c'], 0, -1)).toEqual(['a', 'b', 'c']);
    expect(moved(['a', 'b', 'c'], 0, 9)).toEqual(['b', 'c', 'a']);
  });

  it('shows different values of a column, no nulls', () => {
    const rows = {
      columns,
      rows: [
        ['H1', null, '3'],
        ['H1', null, '4'],
        ['H2', null, null],
      ],
    } as unknown as Rows;
    expect(samples(rows, 'hut')).toEqual(['H1', 'H2']);
    expect(samples(rows, 'beds', 1)).toEqual(['3']);
    expect(samples(rows, 'night')).toEqual([]);
    expect(samples(rows, 'gone')).toEqual([]);
    expect(samples(undefined, 'hut')).toEqual([]);
  });
});

describe('the table of columns', () => {
  it('has those taken in their order, then the others', () => {
    const lines = choiceLines(
      [{ take: 'beds', type: 'int' }, { take: 'like m_*' }, { take: 'hut', as: 'code' }],
      columns,
    );
    expect(lines.map((l) => [l.take, l.at, l.known !== undefined])).toEqual([
      ['beds', 0, true],
      ['like m_*', 1, false],
      ['hut', 2, true],
      ['night', -1, true],
    ]);
  });
});

describe('an aggregate', () => {
  it.each([
    ['sum', 'beds', 'beds_sum', 'sum(beds)'],
    ['different', 'Hut', 'Hut_different', 'count(DISTINCT "Hut")'],
    ['rows', '', 'rows', 'count(*)'],
  ])('%s of %s', (what, column, name, value) => {
    expect(aggregateFor(what, column, quoteName)).toEqual({ name, value });
  });

  it('gets a name that is free', () => {
    expect(freeColumn('rows', ['rows', 'rows_2'])).toBe('rows_3');
    expect(freeColumn('rows', [])).toBe('rows');
  });
});
