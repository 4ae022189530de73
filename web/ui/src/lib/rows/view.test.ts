import { describe, expect, it } from 'vitest';

import { arranged, asTable, condition, fromTable, json, usualWidth, within, type Row } from './view';

const columns = [
  { name: 'hut', type: 'text' },
  { name: 'beds', type: 'int' },
] as Parameters<typeof arranged>[1];
const rows: Row[] = [
  ['Saltmere', '12'],
  ['Orm', '8'],
  [null, '100'],
  ['saltfell', null],
];

describe('arranged', () => {
  it('leaves rows as they are where nothing is asked', () => {
    expect(arranged(rows, columns, {})).toBeUndefined();
    expect(arranged(rows, columns, { hut: '  ' }, { column: 'gone', falling: false })).toBeUndefined();
  });
  it('sorts numbers as numbers, nulls last both ways, equals as they came', () => {
    expect(arranged(rows, columns, {}, { column: 'beds', falling: false })).toEqual([1, 0, 2, 3]);
    expect(arranged(rows, columns, {}, { column: 'beds', falling: true })).toEqual([2, 0, 1, 3]);
    const same: Row[] = [
      ['b', '1'],
      ['a', '1'],
      ['c', '0'],
    ];
    expect(arranged(same, columns, {}, { column: 'beds', falling: true })).toEqual([0, 1, 2]);
  });
  it('filters by several columns at once', () => {
    expect(arranged(rows, columns, { hut: 'SALT', beds: '> 5' })).toEqual([0]);
  });
});

describe('condition', () => {
  it.each([
    ['salt', 'text', [true, false, false, true]],
    ['= Orm', 'text', [false, true, false, false]],
    ['!salt', 'text', [false, true, true, false]],
    ['∅', 'text', [false, false, true, false]],
    ['!null', 'text', [true, true, false, true]],
    ['>= Orm', 'text', [true, true, false, true]],
  ])('%s of %s', (text, type, want) => {
    expect(rows.map((r) => condition(text, type)!(r[0]!))).toEqual(want);
  });
  it('compares numbers as numbers', () => {
    expect(['9', '10.0', '10', null].map((v) => condition('=10', 'decimal(4,1)')!(v))).toEqual([
      false,
      true,
      true,
      false,
    ]);
    expect(['9', '10', '11'].map((v) => condition('>9', 'int')!(v))).toEqual([false, true, true]);
  });
  it('waits for a value', () => {
    for (const t of ['', '  ', '!', '>', '<=']) expect(condition(t, 'int')).toBeUndefined();
  });
});

describe('cells on the clipboard', () => {
  it('come back as they were', () => {
    const cells = [
      ['a', null, 'x\ty'],
      ['say "so"', 'two\nlines', '7'],
    ];
    expect(fromTable(asTable(cells))).toEqual(cells);
  });
  it('are read as spreadsheets write them', () => {
    expect(fromTable('1\t2\r\n3\t\r\n')).toEqual([
      ['1', '2'],
      ['3', null],
    ]);
    expect(fromTable('')).toEqual([]);
    expect(fromTable('alone')).toEqual([['alone']]);
  });
});

describe('columns in view', () => {
  it('are those between two places', () => {
    const widths = Array.from({ length: 300 }, () => 100);
    expect(within(widths, 1050, 1950)).toEqual({ first: 10, last: 20, before: 1000, behind: 28000 });
    expect(within(widths, 0, 50)).toEqual({ first: 0, last: 1, before: 0, behind: 29900 });
    expect(within([], 0, 500)).toEqual({ first: 0, last: 0, before: 0, behind: 0 });
  });
  it('are as wide as what they hold, within bounds', () => {
    expect(usualWidth(columns[0]!, [['x'.repeat(400), null]], 0)).toBe(260);
    expect(usualWidth(columns[1]!, [], 1)).toBe(54);
  });
});

describe('json', () => {
  it('is a list or an object', () => {
    expect(json('{"watts": 5}')).toEqual({ watts: 5 });
    for (const v of ['5', '[1,', 'text', '', null]) expect(json(v)).toBeUndefined();
  });
});
