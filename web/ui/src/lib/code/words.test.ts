import { CompletionContext, type CompletionResult } from '@codemirror/autocomplete';
import { EditorState } from '@codemirror/state';
import { describe, expect, it } from 'vitest';

import { completionsFor, functionAt, helpFor, quoteName, type Words } from './words';

const words: Words = {
  columns: [
    { name: 'hut', type: 'text', nullable: true },
    { name: 'Beds free', type: 'int', nullable: true },
  ] as Words['columns'],
  tables: [{ name: 'tariffs', columns: [{ name: 'price', type: 'decimal(8,2)', nullable: true }] as Words['columns'] }],
  functions: [
    { name: 'round', signature: 'round(float)', help: 'nearest whole number', example: 'round(1.5) → 2' },
    { name: 'round', signature: 'round(decimal, int)', help: 'to so many places', example: 'round(1.234, 2) → 1.23' },
  ],
  aggregates: [{ name: 'sum', help: 'the values added up', example: 'sum(nights)' }],
  parameters: [{ name: 'since', type: 'date' }],
};

function complete(
  text: string,
  language: 'sql' | 'query' | 'script' = 'sql',
  explicit = false,
): CompletionResult | null {
  const state = EditorState.create({ doc: text });
  return completionsFor(
    language,
    () => words,
  )(new CompletionContext(state, text.length, explicit)) as CompletionResult | null;
}
const labels = (r: CompletionResult | null) => r?.options.map((o) => o.label) ?? [];

describe('completion', () => {
  it('offers columns, functions and aggregates in an expression', () => {
    const got = complete('hu');
    expect(labels(got)).toEqual(expect.arrayContaining(['hut', 'Beds free', 'round', 'sum', 'AND']));
    expect(labels(got)).not.toContain('SELECT');
    expect(got?.from).toBe(0);
  });

  it('quotes a column whose name needs it', () => {
    expect(complete('B')?.options.find((o) => o.label === 'Beds free')?.apply).toBe('"Beds free"');
  });

  it('offers parameters after a colon, but not after a cast', () => {
    expect(labels(complete('night >= :si'))).toEqual(['since']);
    expect(labels(complete('hut::te'))).not.toContain('since');
  });

  it("offers a step's columns after its name and a dot", () => {
    expect(labels(complete('SELECT tariffs.', 'query'))).toEqual(['price']);
    expect(labels(complete('SELECT * FROM ta', 'query'))).toContain('tariffs');
    expect(labels(complete('SEL', 'query'))).toContain('SELECT');
  });

  it('says nothing inside of a text, nor where nothing is typed', () => {
    expect(complete("hut = 'so")).toBeNull();
    expect(complete('hut = ')).toBeNull();
    expect(labels(complete('hut = ', 'sql', true))).toContain('hut');
  });

  it('offers the fields of a row in a script', () => {
    expect(labels(complete('    return row["', 'script'))).toEqual(['hut', 'Beds free']);
    expect(labels(complete('ret', 'script'))).toContain('return');
  });
});

describe('the function under the cursor', () => {
  it.each([
    ['round(price, 2)', 3, 'round'],
    ['round(price, 2)', 8, 'round'],
    ["coalesce(upper(hut), 'x)')", 12, 'upper'],
    ["coalesce(upper(hut), 'x)')", 24, 'coalesce'],
    ['(a + b) * 2', 3, undefined],
    ['sum((a + b))', 7, 'sum'],
    ['hut = 7', 2, undefined],
  ])('%s at %i', (text, at, name) => {
    expect(functionAt(text, at)).toBe(name);
  });

  it('has a line for each kind of arguments', () => {
    expect(helpFor('round', words)).toHaveLength(2);
    expect(helpFor('sum', words)[0]?.help).toBe('the values added up');
    expect(helpFor(undefined, words)).toEqual([]);
  });
});

describe('names', () => {
  it.each([
    ['hut', 'hut'],
    ['Hut', '"Hut"'],
    ['order', '"order"'],
    ['a "b"', '"a ""b"""'],
    ['2nd', '"2nd"'],
  ])('%s is written %s', (name, written) => {
    expect(quoteName(name)).toBe(written);
  });
});
