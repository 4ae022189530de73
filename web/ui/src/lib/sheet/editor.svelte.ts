import {
  client,
  Refusal,
  take,
  type CheckedSheet,
  type Column,
  type Passed,
  type PipelineDetail,
  type Problem,
  type Tried,
} from '../api/client';

import { withoutStep } from './stretches';

/** The sheet as a document, as the server gives it and takes it. */
export interface StepDoc {
  id: string;
  kind: string;
  from?: string;
  with?: string;
  more?: string[] | null;
  note?: string;
  problems?: 'set aside' | 'stop';
  personal?: string[] | null;
  settings: Record<string, unknown>;
}
/** stepOf gives the step that a place names: the place is step or step.output. */
export const stepOf = (place: string) => place.split('.')[0]!;

/** inputsOf lists the places that rows of a step come from. */
export const inputsOf = (s: { from?: string; with?: string; more?: string[] | null }) =>
  [s.from, s.with, ...(s.more ?? [])].filter((x): x is string => !!x);

export interface SheetDoc {
  name: string;
  description?: string;
  parameters?: { name: string; type: string; default?: string; note?: string }[] | null;
  limits: { set_aside?: number; share?: number };
  engine?: string;
  stretches?: Stretch[] | null;
  examples?: Example[] | null;
  comments?: { step?: string; path?: string; place: string; text: string }[] | null;
  steps: StepDoc[];
}

/** Stretch is a name for steps that follow each other, by which they can be shown as one line. */
export interface Stretch {
  name: string;
  first: string;
  last: string;
}

/** Example is rows to try the sheet with, and those that must come of them. */
export interface Example {
  name: string;
  note?: string;
  given: { step: string; rows: string }[];
  expect?: { step: string; rows: string }[] | null;
}

/** Given is rows edited by hand, which a trial takes instead of what reaches an input. */
export interface Given {
  step: string;
  input: number;
  columns: string;
  rows: (string | null)[][];
}

const plain = <T>(v: T): T => JSON.parse(JSON.stringify(v)) as T;

/**
 * Editor holds a sheet while it is edited: the document, its text, undo and
 * redo, what checking and trying it found. Each edit is checked after a short
 * pause; an answer that comes after a later edit is thrown away.
 */
export class Editor {
  doc = $state.raw<SheetDoc>({ name: '', limits: {}, steps: [] });
  yaml = $state('');
  checked = $state.raw<CheckedSheet>();
  tried = $state.raw<Tried>();
  triedStep = $state('');
  trying = $state(false);
  telling = $state('');
  conflict = $state(''); // who saved another version meanwhile, as a sentence
  refused = $state(''); // why the last trial could not be made
  sample = $state(2000); // rows that a trial reads of its main input, and shows
  given = $state.raw<Given>();
  followed = $state.raw<{ origin: string; passed: Passed[] }>(); // one row's way through the sheet
  current = $state(true); // whether what checking found is of the document as it is now
  private edits = 0;
  dirty = $state(false);
  saving = $state(false);
  past = $state.raw<string[]>([]);
  future = $state.raw<string[]>([]);

  id: number;
  version = 0;
  private wait: ReturnType<typeof setTimeout> | undefined;
  private checks: AbortController | undefined;
  private tries: AbortController | undefined;

  constructor(id: number) {
    this.id = id;
  }

  private get draftKey(): string {
    return `welkin.draft.${this.id}`;
  }

  private get historyKey(): string {
    return `welkin.history.${this.id}`;
  }

  private keeping: ReturnType<typeof setTimeout> | undefined;

  /** keep writes down what a reload must not lose, a little after the last key. */
  private keep(): void {
    clearTimeout(this.keeping);
    this.keeping = setTimeout(() => this.keepNow(), 300);
  }

  /** keepNow writes it down at once, as when the page goes. */
  keepNow(): void {
    clearTimeout(this.keeping);
    if (this.dirty) localStorage.setItem(this.draftKey, JSON.stringify({ version: this.version, doc: this.doc }));
    this.remember();
  }

  /** remember keeps what can be undone while the tab lives; a long history loses its oldest part. */
  private remember(): void {
    const size = JSON.stringify(this.doc).length + 1;
    for (let keep = Math.min(60, Math.ceil(400_000 / size)); keep > 0; keep = keep >> 1) {
      try {
        sessionStorage.setItem(
          this.historyKey,
          JSON.stringify({ doc: this.doc, past: this.past.slice(-keep), future: this.future.slice(-keep) }),
        );
        return;
      } catch {
        // no room for so much
      }
    }
  }

  /** recall takes up the history of this very document. */
  private recall(): void {
    const kept = sessionStorage.getItem(this.historyKey);
    if (!kept) return;
    const h = JSON.parse(kept) as { doc: SheetDoc; past: string[]; future: string[] };
    if (JSON.stringify(h.doc) !== JSON.stringify(this.doc)) return;
    [this.past, this.future] = [h.past, h.future];
  }

  /** load takes a saved pipeline, and a draft of it that was left unsaved. */
  load(p: PipelineDetail): void {
    this.version = p.version;
    this.take(p.checked);
    const draft = localStorage.getItem(this.draftKey);
    if (draft) {
      const d = JSON.parse(draft) as { version: number; doc: SheetDoc };
      if (d.version === p.version) {
        this.doc = d.doc;
        this.dirty = true;
        this.current = false;
        void this.check();
      } else {
        localStorage.removeItem(this.draftKey);
      }
    }
    this.recall();
  }

  /** begin starts a new pipeline, or goes on with one that was never saved. */
  begin(): void {
    const draft = localStorage.getItem(this.draftKey);
    this.doc = draft ? (JSON.parse(draft) as { doc: SheetDoc }).doc : { name: 'New pipeline', limits: {}, steps: [] };
    this.dirty = draft !== null;
    this.recall();
    void this.check();
  }

  private take(c: CheckedSheet): void {
    this.checked = withColumns(c);
    this.yaml = c.yaml;
    this.doc = plain(c.doc) as unknown as SheetDoc;
    this.doc.steps ??= [];
    this.current = true;
  }

  /** edit changes the document, so that it can be undone. */
  edit(change: (d: SheetDoc) => void): void {
    const before = JSON.stringify(this.doc);
    const next = plain(this.doc);
    change(next);
    if (JSON.stringify(next) === before) return;
    if (!this.goesOnTyping()) this.past = [...this.past.slice(-199), before];
    this.future = [];
    this.doc = next;
    this.changed();
  }

  /** markPersonal says whether a column that comes out of a step is personal. */
  markPersonal(step: string, column: string, yes: boolean): void {
    this.edit((d) => {
      const s = d.steps.find((x) => x.id === step)!;
      const others = (s.personal ?? []).filter((c) => c !== column);
      if (yes) s.personal = [...others, column];
      else if (others.length) s.personal = others;
      else delete s.personal;
    });
  }

  private typed: { at: number; field: Element | null } = { at: 0, field: null };

  /** goesOnTyping tells whether an edit belongs to the one before: letters typed into one field are undone together. */
  private goesOnTyping(): boolean {
    const field = document.activeElement;
    const now = Date.now();
    const goesOn = field === this.typed.field && now - this.typed.at < 2000;
    const typing = field?.matches('input:not([type=checkbox]),textarea,.cm-content') ?? false;
    this.typed = { at: now, field: typing ? field : null };
    return typing && goesOn && this.past.length > 0;
  }

  private changed(): void {
    this.dirty = true;
    this.followed = undefined;
    this.edits++;
    this.current = false;
    this.keep();
    clearTimeout(this.wait);
    this.wait = setTimeout(() => void this.check(), 250);
  }

  undo(): void {
    const before = this.past.at(-1);
    if (before === undefined) return;
    this.future = [...this.future, JSON.stringify(this.doc)];
    this.past = this.past.slice(0, -1);
    this.doc = JSON.parse(before) as SheetDoc;
    this.changed();
  }

  redo(): void {
    const next = this.future.at(-1);
    if (next === undefined) return;
    this.past = [...this.past, JSON.stringify(this.doc)];
    this.future = this.future.slice(0, -1);
    this.doc = JSON.parse(next) as SheetDoc;
    this.changed();
  }

  /** check asks what each step gives and what is wrong. */
  async check(): Promise<void> {
    this.checks?.abort();
    const mine = (this.checks = new AbortController());
    const edits = this.edits;
    try {
      const c = await take(
        client.POST('/api/sheets/check', { body: { doc: this.doc as unknown }, signal: mine.signal }),
      );
      if (mine !== this.checks) return;
      this.current = edits === this.edits;
      this.checked = withColumns(c);
      this.yaml = c.yaml;
      this.telling = '';
    } catch (e) {
      if (mine === this.checks && !(e instanceof DOMException)) this.telling = (e as Error).message;
    }
  }

  /** setText takes an edited text. Only text that reads as a sheet replaces it. */
  async setText(text: string): Promise<Problem[]> {
    this.checks?.abort();
    const mine = (this.checks = new AbortController());
    try {
      const c = await take(client.POST('/api/sheets/check', { body: { yaml: text }, signal: mine.signal }));
      if (mine !== this.checks) return [];
      const broken = (c.problems ?? []).some((p) => !p.step && !p.warning && (p.line ?? 0) > 0);
      if (!broken && (c.doc?.steps ?? []).every((s) => s.settings !== null && s.settings !== undefined)) {
        this.past = [...this.past, JSON.stringify(this.doc)];
        this.future = [];
        this.checked = withColumns(c);
        this.doc = plain(c.doc) as unknown as SheetDoc;
        this.doc.steps ??= [];
        this.current = true;
        this.yaml = text;
        this.dirty = true;
        this.keep();
      }
      return c.problems ?? [];
    } catch (e) {
      if (!(e instanceof DOMException)) this.telling = (e as Error).message;
      return [];
    }
  }

  /** give lets the trials of a step take rows as they are edited; nothing goes back to those read. */
  give(given: Given | undefined): void {
    const step = given?.step ?? this.given?.step;
    this.given = given;
    if (step) void this.try(step);
  }

  /** givenFor gives the edited rows of a step while their columns are still those that come in. */
  private givenFor(step: string): { input: number; rows: (string | null)[][] }[] {
    const g = this.given;
    const place = inputsOf(this.doc.steps.find((s) => s.id === step) ?? {})[g?.input ?? 0];
    if (!g || g.step !== step || columnNames(this.checked, place) !== g.columns) return [];
    return [{ input: g.input, rows: g.rows }];
  }

  /** try runs the sheet up to a step on a sample; fresh reads everything anew. */
  async try(step: string, fresh = false): Promise<void> {
    this.tries?.abort();
    const mine = (this.tries = new AbortController());
    this.trying = true;
    try {
      const t = await take(
        client.POST('/api/sheets/try', {
          body: {
            doc: this.doc as unknown,
            step,
            sample: this.sample,
            show: this.sample,
            fresh,
            given: this.givenFor(step),
          },
          signal: mine.signal,
        }),
      );
      if (mine !== this.tries) return;
      this.tried = t;
      this.triedStep = step;
      this.refused = '';
    } catch (e) {
      if (mine !== this.tries || e instanceof DOMException) return;
      this.refused = (e as Error).message;
    }
    this.trying = false;
  }

  /** follow asks what becomes of one row of the trial at each step. */
  async follow(step: string, origin: string): Promise<void> {
    try {
      const passed = await take(
        client.POST('/api/sheets/follow', { body: { doc: this.doc as unknown, step, origin, sample: this.sample } }),
      );
      this.followed = { origin, passed: passed ?? [] };
      this.telling = '';
    } catch (e) {
      this.telling = `The row can't be followed: ${(e as Error).message}`;
    }
  }

  /** save keeps a new version; a conflict is told and loses nothing. */
  async save(): Promise<PipelineDetail | undefined> {
    clearTimeout(this.wait);
    clearTimeout(this.keeping);
    this.saving = true;
    this.telling = '';
    try {
      const body = { doc: this.doc as unknown, version: this.version };
      const p = this.id
        ? await take(client.PUT('/api/pipelines/{id}', { params: { path: { id: this.id } }, body }))
        : await take(client.POST('/api/pipelines', { body }));
      localStorage.removeItem(this.draftKey);
      this.id = p.id;
      this.version = p.version;
      this.dirty = false;
      this.take(p.checked);
      this.remember();
      return p;
    } catch (e) {
      if (e instanceof Refusal && e.status === 409 && e.message.includes('meanwhile')) this.conflict = e.message;
      else this.telling = e instanceof Refusal && e.status === 409 ? `Not saved: ${e.message}` : (e as Error).message;
      return undefined;
    } finally {
      this.saving = false;
    }
  }

  /** settle lets the next save put this document behind a version that was saved meanwhile. */
  settle(version: number): void {
    this.version = version;
    this.conflict = '';
  }

  /** takeVersion puts another version's document in place of this one, as an edit. */
  takeVersion(doc: unknown): void {
    const next = plain(doc) as SheetDoc;
    this.edit((d) => {
      for (const key of Object.keys(d)) delete (d as unknown as Record<string, unknown>)[key];
      Object.assign(d, next, { steps: next.steps ?? [] });
    });
  }

  /** discard goes back to the saved version. */
  discard(p: PipelineDetail): void {
    clearTimeout(this.keeping);
    localStorage.removeItem(this.draftKey);
    this.past = [];
    this.future = [];
    this.dirty = false;
    this.conflict = '';
    this.take(p.checked);
    this.version = p.version;
  }

  /** freeName gives a step name that is not taken. */
  freeName(wanted: string): string {
    const taken = this.doc.steps.map((s) => s.id);
    if (!taken.includes(wanted)) return wanted;
    for (let n = 2; ; n++) if (!taken.includes(`${wanted} ${n}`)) return `${wanted} ${n}`;
  }

  /** rename renames a step and everything that names it. */
  rename(from: string, to: string): void {
    this.edit((d) => {
      for (const s of d.steps) {
        if (s.id === from) s.id = to;
        rewire(s, (place) => (stepOf(place) === from ? to + place.slice(from.length) : place));
      }
      for (const s of d.stretches ?? []) for (const end of ['first', 'last'] as const) if (s[end] === from) s[end] = to;
      for (const e of d.examples ?? [])
        for (const rows of [...e.given, ...(e.expect ?? [])])
          if (stepOf(rows.step) === from) rows.step = to + rows.step.slice(from.length);
      for (const c of d.comments ?? []) if (c.step === from) c.step = to;
    });
  }

  /** insert puts a step after another one, in between it and what reads it. */
  insert(after: string, step: StepDoc, between: boolean): void {
    this.edit((d) => {
      const at = d.steps.findIndex((s) => s.id === stepOf(after));
      if (between)
        for (const s of d.steps) {
          rewire(s, (place) => (place === after ? step.id : place));
        }
      d.steps.splice(at < 0 ? d.steps.length : at + 1, 0, step);
    });
  }

  /** remove takes a step out; what read it reads its input instead. */
  remove(id: string): void {
    this.edit((d) => {
      const at = d.steps.findIndex((s) => s.id === id);
      if (at < 0) return;
      const before = d.steps[at]!.from;
      if (d.stretches?.length) d.stretches = withoutStep(d.stretches, d.steps, id);
      d.steps.splice(at, 1);
      for (const s of d.steps) rewire(s, (place) => (stepOf(place) === id ? before : place));
    });
  }

  /** paste puts steps from a text, as stepsAsText writes it or a whole sheet, behind a step. It gives the first of them. */
  async paste(text: string, after: string): Promise<string | undefined> {
    const yaml = /^welkin:/m.test(text) ? text : `welkin: 1\nname: pasted\n${text}`;
    let found: StepDoc[];
    try {
      const c = await take(client.POST('/api/sheets/check', { body: { yaml } }));
      found = (plain(c.doc) as unknown as SheetDoc).steps ?? [];
      const broken = (c.problems ?? []).find((p) => !p.step && !p.warning);
      if (!found.length && broken) throw new Error(broken.sentence);
    } catch (e) {
      this.telling = `Nothing was pasted: ${(e as Error).message}`;
      return undefined;
    }
    if (!found.length) return undefined;
    const here = this.doc.steps.map((s) => s.id);
    const names: Record<string, string> = {};
    for (const s of found) {
      let name = this.freeName(s.id);
      for (let n = 2; Object.values(names).includes(name); n++) name = this.freeName(`${s.id} ${n}`);
      names[s.id] = name;
    }
    // What came along is read from there; other steps keep their names where this sheet has them.
    const place = (p: string): string | undefined => {
      const [id, branch] = [stepOf(p), p.slice(stepOf(p).length)];
      return id in names ? names[id]! + branch : here.includes(id) ? p : undefined;
    };
    this.edit((d) => {
      const at = d.steps.findIndex((s) => s.id === after);
      const pasted = found.map((s) => {
        const copy = { ...plain(s), id: names[s.id]! };
        const reads = copy.from !== undefined;
        rewire(copy, place);
        if (reads && !copy.from && after) copy.from = after;
        return copy;
      });
      d.steps.splice(at < 0 ? d.steps.length : at + 1, 0, ...pasted);
    });
    return names[found[0]!.id];
  }

  /** duplicate puts a copy of a step after it. */
  duplicate(id: string): string | undefined {
    const s = this.doc.steps.find((x) => x.id === id);
    if (!s) return undefined;
    const copy = { ...plain(s), id: this.freeName(id) };
    this.insert(id, copy, false);
    return copy.id;
  }
}

/** stepsAsText cuts steps out of a sheet's canonical text, as they are put on the clipboard. */
export function stepsAsText(yaml: string, ids: string[]): string {
  const blocks = yaml.split(/^(?= {2}- step: )/m).slice(1);
  const wanted = blocks.filter((b) => {
    const name = /^ {2}- step: (.*)$/m.exec(b)![1]!.trim();
    return ids.includes(name.replace(/^(['"])(.*)\1$/, '$2'));
  });
  return wanted.length ? `steps:\n${wanted.join('').trimEnd()}\n` : '';
}

/** withColumns gives steps the columns that they have like another place. */
function withColumns(c: CheckedSheet): CheckedSheet {
  const known: CheckedSheet = { ...c, steps: [] };
  for (const s of c.steps ?? []) known.steps!.push(s.like ? { ...s, columns: columnsAt(known, s.like) } : s);
  // A step may stand above the one whose columns it has.
  if (known.steps!.some((s) => s.like && !s.columns?.length))
    known.steps = known.steps!.map((s) =>
      s.like && !s.columns?.length ? { ...s, columns: columnsAt(known, s.like) } : s,
    );
  return known;
}

/** columnsAt gives the columns of the rows at a place. */
export function columnsAt(checked: CheckedSheet | undefined, place: string | undefined): Column[] {
  const s = checked?.steps?.find((x) => x.id === stepOf(place ?? ''));
  const branch = place?.slice((s?.id.length ?? 0) + 1);
  return (branch ? s?.branches?.find((b) => b.name === branch)?.columns : s?.columns) ?? [];
}

/** columnNames joins the names and types of the columns at a place, to see whether they changed. */
export function columnNames(checked: CheckedSheet | undefined, place: string | undefined): string {
  return columnsAt(checked, place)
    .map((c) => `${c.name} ${c.type}`)
    .join('\n');
}

/** rewire changes where the rows of a step come from; nothing leaves a place empty. */
function rewire(s: StepDoc, change: (place: string) => string | undefined): void {
  for (const key of ['from', 'with'] as const) {
    const place = s[key];
    if (!place) continue;
    const next = change(place);
    if (next) s[key] = next;
    else delete s[key];
  }
  if (s.more?.length) s.more = s.more.map(change).filter((x): x is string => !!x);
}
