import { describe, expect, it } from 'vitest';

import type { LoadPreview } from '../api/client';
import { previewLines } from './load';

const load = {
  rows: [
    { what: 'insert', cells: ['1', 'a'] },
    { what: 'change', cells: ['2', 'b'], before: ['2', null], changed: ['name'] },
    { what: 'refuse', cells: [null, 'c'], sentence: 'there is no key' },
  ],
} as unknown as LoadPreview;

describe('the rows of a load', () => {
  it('show what a changed row is now above what it becomes', () => {
    const l = previewLines(load, '');
    expect(l.rows).toEqual([
      ['new', '1', 'a'],
      ['is now', '2', null],
      ['becomes', '2', 'b'],
      ['refused: there is no key', null, 'c'],
    ]);
    expect(l.changed[2]).toEqual(new Set(['name']));
    expect(l.changed[1]).toBeUndefined();
  });

  it('can be those of one kind alone', () => {
    expect(previewLines(load, 'insert').rows).toEqual([['new', '1', 'a']]);
    expect(previewLines(load, 'same').rows).toEqual([]);
  });
});
