import { beforeEach, describe, expect, it, vi } from 'vitest';

// Requests wait until a test answers them.
const asked: { path: string; body: Record<string, unknown>; answer: (data: unknown, status?: number) => void }[] = [];
vi.mock('../api/client', async (real) => ({
  ...(await real<object>()),
  client: {
    POST: (path: string, { body }: { body: Record<string, unknown> }) =>
      new Promise((done) =>
        asked.push({
          path,
          body,
          answer: (data, status = 200) =>
            done(
              status === 200
                ? { data, response: { ok: true, status } }
                : { error: { detail: data }, response: { ok: false, status } },
            ),
        }),
      ),
  },
}));

import { columnNames, Editor, stepsAsText } from './editor.svelte';

const steps = () => [
  { id: 'stays', kind: 'read table', settings: {} },
  { id: 'long', kind: 'keep rows', from: 'stays', settings: { where: 'nights > 3' } },
  { id: 'load', kind: 'write table', from: 'long', settings: {} },
];

describe('the editor', () => {
  let e: Editor;
  beforeEach(() => {
    localStorage.clear();
    sessionStorage.clear();
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

  it('keeps what can be undone over a reload', () => {
    e.remove('long');
    e.rename('load', 'target');
    e.undo();
    e.keepNow();
    const again = new Editor(7);
    again.load({
      version: 0,
      checked: { doc: { name: 'Stays', limits: {}, steps: [] }, yaml: '', steps: [] },
    } as never);
    expect(again.doc.steps.map((s) => s.id)).toEqual(['stays', 'load']);
    again.redo();
    expect(again.doc.steps.map((s) => s.id)).toEqual(['stays', 'target']);
    again.undo();
    again.undo();
    expect(again.doc.steps.map((s) => s.id)).toEqual(['stays', 'long', 'load']);
  });

  it('pastes steps under free names and wires them to what came along or is here', async () => {
    const pasting = e.paste('steps:\n  - step: long\n', 'stays');
    await vi.waitFor(() => expect(asked.at(-1)?.path).toBe('/api/sheets/check'));
    asked.at(-1)!.answer({
      yaml: '',
      problems: [],
      doc: {
        name: 'pasted',
        limits: {},
        steps: [
          { id: 'long', kind: 'keep rows', from: 'elsewhere', settings: {} },
          { id: 'both', kind: 'join', from: 'long', with: 'load', settings: {} },
        ],
      },
    });
    expect(await pasting).toBe('long 2');
    expect(e.doc.steps.map((s) => `${s.from ?? ''}+${s.with ?? ''}>${s.id}`)).toEqual([
      '+>stays',
      'stays+>long 2',
      'long 2+load>both',
      'stays+>long',
      'long+>load',
    ]);
    e.undo();
    expect(e.doc.steps).toHaveLength(3);
  });

  it('puts steps on the clipboard as they stand in the text', () => {
    const yaml =
      'welkin: 1\nname: s\nsteps:\n  - step: a\n    does: limit\n  - step: "b: c"\n    does: sort\n  - step: d\n    rows: |\n      x\n';
    expect(stepsAsText(yaml, ['a', 'd'])).toBe(
      'steps:\n  - step: a\n    does: limit\n  - step: d\n    rows: |\n      x\n',
    );
    expect(stepsAsText(yaml, ['b: c'])).toBe('steps:\n  - step: "b: c"\n    does: sort\n');
    expect(stepsAsText(yaml, ['gone'])).toBe('');
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
    e.keepNow(); // as when the page goes
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

describe('what checking and trying find', () => {
  let e: Editor;
  const columns = [{ name: 'nights', type: 'int' }];
  const checked = (yaml: string) => ({ yaml, problems: [], steps: [{ id: 'stays', columns }] });
  const settle = () => vi.advanceTimersByTimeAsync(0);
  beforeEach(() => {
    localStorage.clear();
    sessionStorage.clear();
    vi.useFakeTimers();
    asked.length = 0;
    e = new Editor(7);
    e.doc = { name: 'Stays', limits: {}, steps: steps() };
  });

  it('is current only when nothing was edited since', async () => {
    e.edit((d) => (d.name = 'One'));
    expect(e.current).toBe(false);
    await vi.advanceTimersByTimeAsync(250);
    e.edit((d) => (d.name = 'Two'));
    asked[0]!.answer(checked('one'));
    await settle();
    expect(e.yaml).toBe('one');
    expect(e.current).toBe(false);
    await vi.advanceTimersByTimeAsync(250);
    asked[1]!.answer(checked('two'));
    await settle();
    expect(e.current).toBe(true);
  });

  it('comes from the last question alone', async () => {
    void e.check();
    void e.check();
    asked[1]!.answer(checked('second'));
    asked[0]!.answer(checked('first'));
    await settle();
    expect(e.yaml).toBe('second');
  });

  it('tells why a trial could not be made, until one could', async () => {
    void e.try('long');
    asked[0]!.answer('there is no column day', 422);
    await settle();
    expect(e.refused).toBe('there is no column day');
    expect(e.trying).toBe(false);
    void e.try('long');
    asked[1]!.answer({ steps: [] });
    await settle();
    expect(e.refused).toBe('');
    expect(e.triedStep).toBe('long');
  });

  it('tries edited rows while the columns that come in are the same', async () => {
    void e.check();
    asked[0]!.answer(checked('one'));
    await settle();
    e.give({ step: 'long', input: 0, columns: columnNames(e.checked, 'stays'), rows: [['4']] });
    expect(asked[1]!.body.given).toEqual([{ input: 0, rows: [['4']] }]);
    void e.try('load');
    expect(asked[2]!.body.given).toEqual([]);
    void e.check();
    asked[3]!.answer({ ...checked('two'), steps: [{ id: 'stays', columns: [{ name: 'nights', type: 'text' }] }] });
    await settle();
    void e.try('long');
    expect(asked[4]!.body.given).toEqual([]);
    e.give(undefined);
    expect(asked[5]!.body).toMatchObject({ step: 'long', given: [] });
  });
});
