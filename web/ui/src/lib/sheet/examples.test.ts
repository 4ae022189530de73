import { describe, expect, it } from 'vitest';

import { asText, fromText, withExpected, withGiven } from './examples';

describe('the rows of an example', () => {
  it.each([
    [
      ['hut', 'remark'],
      [
        ['H01', 'cold, wet'],
        ['H02', null],
      ],
    ],
    [['a'], [['say "no"'], ['two\nlines'], ['x']]],
    [['a', 'b'], []],
  ] as [string[], (string | null)[][]][])('come back as they were written: %j', (names, rows) => {
    expect(fromText(asText(names, rows))).toEqual({ names, rows });
  });

  it('may lack the last values of a line, and the last line break', () => {
    expect(fromText('a,b\n1\n2,3')).toEqual({
      names: ['a', 'b'],
      rows: [
        ['1', null],
        ['2', '3'],
      ],
    });
    expect(fromText('')).toEqual({ names: [], rows: [] });
  });
});

describe('keeping an example', () => {
  it('makes a new one, or gives the one of this name other rows', () => {
    const one = withGiven([], 'short stay', 'stays', 'hut\nH01\n');
    expect(one).toEqual([{ name: 'short stay', given: [{ step: 'stays', rows: 'hut\nH01\n' }] }]);
    const two = withGiven(withGiven(one, 'short stay', 'huts', 'code\nH01\n'), 'short stay', 'stays', 'hut\nH02\n');
    expect(two[0]!.given.map((g) => [g.step, g.rows])).toEqual([
      ['huts', 'code\nH01\n'],
      ['stays', 'hut\nH02\n'],
    ]);
  });

  it('says what must come of it, once a step', () => {
    const one = withGiven([], 'short stay', 'stays', 'hut\nH01\n');
    const two = withExpected(withExpected(one, 'short stay', 'long', 'hut\n'), 'short stay', 'long', 'hut\nH01\n');
    expect(two[0]!.expect).toEqual([{ step: 'long', rows: 'hut\nH01\n' }]);
  });
});
