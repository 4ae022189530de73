import { beforeEach, describe, expect, it, vi } from 'vitest';

vi.mock('../api/client', async (real) => ({
  ...(await real<object>()),
  client: { POST: () => new Promise(() => {}) },
}));

import { Editor } from './editor.svelte';

const steps = () => [
  { id: 'stays', kind: 'read table', settings: {} },
  { id: 'long', kind: 'keep rows', from: 'stays', settings: { where: 'nights > 3' } },
  { id: 'load', kind: 'write table', from: 'long', settings: {} },
];

describe('the editor', () => {
  let e: Editor;
  beforeEach(() => {
    localStorage.clear();
    vi.useFakeTimers();
    e = new Editor(7);
    e.doc = { name: 'Stays', limits: {}, steps: steps() };
  });
  const wires = () => e.doc.steps.map((s) => `${s.from ?? ''}>${s.id}`);

  it('puts a step in between and takes it out again', () => {
    e.insert('stays', { id: 'typed', kind: 'choose columns', from: 'stays', settings: {} }, true);
    expect(wires()).toEqual(['>stays', 'stays>typed', 'typed>long', 'long>load']);
    e.remove('typed');
    expect(wires()).toEqual(['>stays', 'stays>long', 'long>load']);
  });

  it('undoes and redoes every edit', () => {
    e.remove('long');
    e.rename('load', 'target');
    expect(wires()).toEqual(['>stays', 'stays>target']);
    e.undo();
    e.undo();
    expect(wires()).toEqual(['>stays', 'stays>long', 'long>load']);
    e.redo();
    expect(wires()).toEqual(['>stays', 'stays>load']);
  });

  it('renames a step wherever it is named', () => {
    e.doc.steps.push({ id: 'both', kind: 'join', from: 'long', with: 'stays', settings: {} });
    e.rename('stays', 'nights');
    expect(e.doc.steps.map((s) => [s.from, s.with])).toEqual([
      [undefined, undefined],
      ['nights', undefined],
      ['long', undefined],
      ['long', 'nights'],
    ]);
  });

  it('gives a copy a name of its own', () => {
    expect(e.duplicate('long')).toBe('long 2');
    expect(wires()).toEqual(['>stays', 'stays>long', 'stays>long 2', 'long>load']);
  });

  it('keeps what was typed for a reload', () => {
    e.edit((d) => (d.name = 'Other'));
    const again = new Editor(7);
    again.load({
      version: 0,
      checked: { doc: { name: 'Stays', limits: {}, steps: steps() }, yaml: '', problems: [], steps: [], ready: true },
    } as never);
    expect(again.doc.name).toBe('Other');
    expect(again.dirty).toBe(true);
  });

  it('counts an edit that changes nothing as none', () => {
    e.edit((d) => (d.name = 'Stays'));
    expect(e.dirty).toBe(false);
    expect(e.past).toHaveLength(0);
  });
});
