import { describe, expect, it } from 'vitest';

import type { Passed, Rows } from '../api/client';
import { differences, fateWords } from './way';

const rows = (columns: string[], ...cells: (string | null)[][]): Rows =>
  ({
    columns: columns.map((name) => ({ name, type: 'text' })),
    rows: cells,
    origins: [],
    total: cells.length,
  }) as unknown as Rows;

describe('differences', () => {
  it('names what changed, is new and is gone', () => {
    expect(
      differences(rows(['hut', 'beds', 'fax'], ['Orm', '8', null]), rows(['hut', 'beds', 'big'], ['Orm', '9', null])),
    ).toEqual([
      { column: 'beds', was: '8', is: '9' },
      { column: 'big', is: null },
      { column: 'fax', was: null },
    ]);
  });
  it('finds nothing where nothing came', () => {
    expect(differences(undefined, undefined)).toEqual([]);
  });
});

describe('fateWords', () => {
  const passed = (fate: string, ...after: [string, number][]) =>
    ({ step: 's', fate, before: [], after: after.map(([name, total]) => ({ name, total })) }) as unknown as Passed;
  it.each([
    [passed('passed', ['', 1]), 'passed as it was'],
    [passed('passed', ['', 0], ['near', 1]), 'went to near'],
    [passed('several', ['', 3]), 'became 3 rows'],
    [passed('several', ['a', 1], ['b', 1]), 'became 2 rows, in a, b'],
    [passed('dropped'), 'dropped by the rule of this step'],
  ])('%#', (p, want) => expect(fateWords(p)).toBe(want));
});
