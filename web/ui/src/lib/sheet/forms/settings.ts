import type { Account, CheckedStep, Column, Rows, StepKind, Tried } from '../../api/client';
import type { Editor, StepDoc } from '../editor.svelte';

/** FormProps is what every step's own form is given. */
export interface FormProps {
  editor: Editor;
  step: StepDoc;
  kind: StepKind;
  checked?: CheckedStep;
  input: Column[]; // the columns that come in
  other: Column[]; // those of the other side
  tried?: Tried; // of this step
  account?: Account; // of this step
  change: (settings: Record<string, unknown>) => void;
  suggest: (path: string, format?: string) => string[];
  problems: Record<string, string>;
  readonly: boolean;
}

/** put gives settings with one of them changed; an empty one is left out unless it must be there. */
export function put(
  settings: Record<string, unknown>,
  name: string,
  value: unknown,
  required: string[] = [],
): Record<string, unknown> {
  const next = { ...settings, [name]: value };
  const empty = value === '' || value === undefined || value === false || (Array.isArray(value) && !value.length);
  if (empty && !required.includes(name)) delete next[name];
  return next;
}

/** samples gives the first different values of a column among some rows. */
export function samples(rows: Rows | undefined, column: string, most = 3): string[] {
  const at = (rows?.columns ?? []).findIndex((c) => c.name === column);
  const out: string[] = [];
  for (const row of at < 0 ? [] : (rows?.rows ?? [])) {
    const v = row?.[at];
    if (v !== null && v !== undefined && !out.includes(v)) out.push(v);
    if (out.length >= most) break;
  }
  return out;
}

/** moved gives a list with one entry moved by some places. */
export function moved<T>(list: T[], at: number, by: number): T[] {
  const next = [...list];
  const [x] = next.splice(at, 1);
  next.splice(Math.max(0, Math.min(list.length - 1, at + by)), 0, x!);
  return next;
}

/** Chosen is one column of *choose columns*. */
export interface Chosen {
  take: string;
  as?: string;
  type?: string;
  format?: string;
  bad?: string;
}

/** Line is one line of the table of *choose columns*: a column taken, or one that could be. */
export interface Line extends Chosen {
  at: number; // its place among those taken, -1 when it is not
  known?: Column; // of the input; words such as "like m_*" have none
}

/** choiceLines lists what is taken in its order, and then what is not. */
export function choiceLines(taken: Chosen[], input: Column[]): Line[] {
  const lines: Line[] = taken.map((c, at) => ({ ...c, at, known: input.find((x) => x.name === c.take) }));
  const named = new Set(taken.map((c) => c.take));
  return lines.concat(input.filter((c) => !named.has(c.name)).map((c) => ({ take: c.name, at: -1, known: c })));
}

/** aggregateFor writes an aggregate and the name of its column: sum of beds is sum(beds) as beds_sum. */
export function aggregateFor(
  what: string,
  column: string,
  quote: (name: string) => string,
): { name: string; value: string } {
  if (what === 'rows') return { name: 'rows', value: 'count(*)' };
  const name = `${column}_${what.replace(/\W+/g, '_')}`;
  if (what === 'different') return { name, value: `count(DISTINCT ${quote(column)})` };
  return { name, value: `${what}(${quote(column)})` };
}

/** freeColumn gives a name that is not among those taken. */
export function freeColumn(wanted: string, taken: string[]): string {
  if (!taken.includes(wanted)) return wanted;
  for (let n = 2; ; n++) if (!taken.includes(`${wanted}_${n}`)) return `${wanted}_${n}`;
}
