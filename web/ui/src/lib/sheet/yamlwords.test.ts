import { CompletionContext } from '@codemirror/autocomplete';
import { EditorState } from '@codemirror/state';
import { describe, expect, it } from 'vitest';

import type { StepKind } from '../api/client';
import { completeYaml, placeAt } from './yamlwords';

const kinds = [
  {
    name: 'keep rows',
    schema: { properties: { where: { type: 'string', description: 'A condition' } } },
  },
  {
    name: 'look up',
    schema: {
      properties: {
        on: { type: 'array', items: { properties: { left: { type: 'string' }, right: { type: 'string' } } } },
        take: { type: 'array', items: { type: 'string' } },
        many: { enum: ['take the first', 'set aside'] },
        nulls_match: { type: 'boolean' },
      },
    },
  },
] as unknown as StepKind[];

const sheet = `welkin: 1
name: Nights
steps:
  - step: stays
    does: keep rows
    where: nights > 0
  - step: known
    does: look up
    from: stays
    on:
      - left: hut
    `;

/** What is offered at the mark | of a text that follows the sheet. */
function offered(text: string, explicit = false): string[] {
  const doc = text.startsWith('!') ? text.slice(1) : sheet + text;
  const at = doc.indexOf('|');
  const state = EditorState.create({ doc: doc.replace('|', '') });
  const words = {
    kinds,
    steps: ['stays', 'known'],
    columns: (step: string) => (step === 'known' ? ['hut', 'nights'] : []),
    types: ['text', 'int'],
  };
  return completeYaml(() => words)(new CompletionContext(state, at, explicit))?.options.map((o) => o.label) ?? [];
}

describe('what is offered in the text of a sheet', () => {
  it.each([
    ['ma|', ['step', 'does', 'from', 'with', 'note', 'problems', 'on', 'take', 'many', 'nulls_match']],
    ['  - l|', ['left', 'right']],
    ['  - left: |', ['hut', 'nights']],
    ['many: |', ['take the first', 'set aside']],
    ['nulls_match: |', ['true', 'false']],
    ['from: |', ['stays', 'known']],
    ['with: [stays, |', ['stays', 'known']],
    ['take: [hut, n|', ['hut', 'nights']],
    ['problems: |', ['set aside', 'stop']],
    ['take:\n      - h|', ['hut', 'nights']],
  ])('%s', (text, want) => {
    expect(offered(text)).toEqual(want);
  });

  it('is the kinds after does, and step at a new line of the list', () => {
    expect(offered('!steps:\n  - step: a\n    does: |')).toEqual(['keep rows', 'look up']);
    expect(offered('!steps:\n  - s|')).toEqual(['step']);
  });

  it('is what belongs to the whole sheet at the edge, and inside of its parts', () => {
    expect(offered('!n|')).toContain('limits');
    expect(offered('!limits:\n  s|')).toEqual(['set_aside', 'share']);
    expect(offered('!stretches:\n  - name: a\n    f|')).toEqual(['name', 'first', 'last']);
    expect(offered('!engine: |')).toEqual(['database', 'own']);
  });

  it('is nothing in a comment, and nothing where nothing is typed', () => {
    expect(offered('# ma|')).toEqual([]);
    expect(offered('|')).toEqual([]);
    expect(offered('|', true)).toContain('many');
  });
});

describe('the place of a line', () => {
  it('knows the step, its kind, also where that stands below', () => {
    const lines = 'steps:\n  - step: a\n    \n    does: look up\n  - step: b\n    does: keep rows'.split('\n');
    expect(placeAt(lines, 2, 4)).toMatchObject({ section: 'steps', step: 'a', kind: 'look up', path: [] });
  });
});
