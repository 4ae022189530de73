import { describe, expect, it } from 'vitest';

import type { StepDoc } from './editor.svelte';
import { linesOf, reachOf, withoutStep } from './stretches';

const step = (id: string, from?: string, other?: string): StepDoc => ({
  id,
  kind: 'keep rows',
  ...(from ? { from } : {}),
  ...(other ? { with: other } : {}),
  settings: {},
});
const steps = [
  step('logs'),
  step('typed', 'logs'),
  step('clean', 'typed'),
  step('huts'),
  step('placed', 'clean', 'huts'),
  step('load', 'placed'),
];
const clean = { name: 'tidy the logs', first: 'typed', last: 'clean' };

describe('a stretch of steps', () => {
  it('is one line when it is folded, and rows go through it', () => {
    const lines = linesOf(steps, [clean], ['tidy the logs']);
    expect(lines.map((l) => l.id)).toEqual(['logs', '▸tidy the logs', 'huts', 'placed', 'load']);
    expect(lines[1]!.inputs).toEqual(['logs']);
    expect(lines[3]!.inputs).toEqual(['▸tidy the logs', 'huts']);
    expect(lines[1]!.steps.map((s) => s.id)).toEqual(['typed', 'clean']);
  });

  it('is headed by its name when it is not', () => {
    const lines = linesOf(steps, [clean], []);
    expect(lines).toHaveLength(6);
    expect(lines[1]!.begins).toEqual(clean);
    expect(lines[2]!.begins).toBeUndefined();
    expect(lines[2]!.stretch).toEqual(clean);
  });

  it('that names steps which are gone changes nothing', () => {
    expect(linesOf(steps, [{ name: 'x', first: 'gone', last: 'load' }], ['x'])).toHaveLength(6);
  });

  it('may reach up to the next one', () => {
    expect(reachOf(steps, [clean], 'logs').map((s) => s.id)).toEqual(['logs']);
    expect(reachOf(steps, [clean], 'huts').map((s) => s.id)).toEqual(['huts', 'placed', 'load']);
    expect(reachOf(steps, [clean], 'clean')).toEqual([]);
    expect(reachOf(steps, [], 'nowhere')).toEqual([]);
  });

  it('ends earlier when its last step is taken out', () => {
    expect(withoutStep([clean], steps, 'clean')).toEqual([{ ...clean, last: 'typed' }]);
    expect(withoutStep([clean], steps, 'typed')).toEqual([{ ...clean, first: 'clean' }]);
    expect(withoutStep([{ ...clean, last: 'typed' }], steps, 'typed')).toEqual([]);
    expect(withoutStep([clean], steps, 'load')).toEqual([clean]);
  });
});
