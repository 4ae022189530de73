import { expect, test } from 'vitest';
import type { StepKind } from '../api/client';
import { meant } from './kinds';

const kind = (name: string, help: string, words: string) => ({ name, help, words }) as StepKind;
const kinds = [
  kind('parse text', 'Reads a text as JSON.', 'message payload'),
  kind('write table', 'Writes rows.', 'load target'),
  kind('load check', 'Counts rows.', ''),
];

test.each([
  ['load', ['load check', 'write table', 'parse text']],
  ['payload', ['parse text']],
  ['write load', ['write table']],
  ['', ['parse text', 'write table', 'load check']],
  ['lantern', []],
])('what "%s" may mean, the likeliest first', (typed, names) => {
  expect(meant(kinds, typed).map((k) => k.name)).toEqual(names);
});
