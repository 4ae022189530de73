/**
 * How rows are looked at: in which order, which of them, how wide their columns
 * are. None of it changes the rows of the sheet.
 */
import type { Column } from '../api/client';

export type Cell = string | null;
export type Row = Cell[];

export interface Sorting {
  column: string;
  falling: boolean;
}

export const isNumber = (type: string) => /^(int|decimal|float)/.test(type);

/** comparison gives the order of a column's values; nulls stand last both ways. */
export function comparison(type: string, falling: boolean): (a: Cell, b: Cell) => number {
  const sign = falling ? -1 : 1;
  const values = isNumber(type)
    ? (a: string, b: string) => Number(a) - Number(b) || (a < b ? -1 : a > b ? 1 : 0)
    : (a: string, b: string) => (a < b ? -1 : a > b ? 1 : 0);
  return (a, b) => {
    if (a === b) return 0;
    if (a === null) return 1;
    if (b === null) return -1;
    return sign * values(a, b);
  };
}

/**
 * condition reads what is typed to filter a column: a part of the text, or = the
 * whole of it, or < <= > >= a value, or ∅ (also "null") for nulls; a ! before it
 * turns it round. Nothing typed filters nothing.
 */
export function condition(text: string, type: string): ((v: Cell) => boolean) | undefined {
  const t = text.trim();
  if (t === '' || t === '!') return undefined;
  if (t.startsWith('!')) {
    const inner = condition(t.slice(1), type);
    return inner && ((v) => !inner(v));
  }
  if (t === '∅' || t === 'null') return (v) => v === null;
  const m = /^(<=|>=|<|>|=)\s*(.*)$/s.exec(t);
  if (!m) {
    const part = t.toLowerCase();
    return (v) => v !== null && v.toLowerCase().includes(part);
  }
  const [, sign, value = ''] = m;
  if (sign !== '=' && value === '') return undefined;
  const compare = comparison(type, false);
  const way: Record<string, (c: number) => boolean> = {
    '=': (c) => c === 0,
    '<': (c) => c < 0,
    '<=': (c) => c <= 0,
    '>': (c) => c > 0,
    '>=': (c) => c >= 0,
  };
  const fits = way[sign!]!;
  return (v) => v !== null && fits(isNumber(type) && Number(v) === Number(value) ? 0 : compare(v, value));
}

/** arranged gives the places of the rows that pass all filters, in the order asked for. */
export function arranged(
  rows: Row[],
  columns: Column[],
  filters: Record<string, string>,
  sorting?: Sorting,
): number[] | undefined {
  const tests = columns.flatMap((c, at) => {
    const fits = condition(filters[c.name] ?? '', c.type);
    return fits ? [{ at, fits }] : [];
  });
  const by = columns.findIndex((c) => c.name === sorting?.column);
  if (!tests.length && by < 0) return undefined;
  const places: number[] = [];
  rows.forEach((row, i) => {
    if (tests.every((t) => t.fits(row[t.at] ?? null))) places.push(i);
  });
  if (by >= 0) {
    const compare = comparison(columns[by]!.type, sorting!.falling);
    places.sort((a, b) => compare(rows[a]![by] ?? null, rows[b]![by] ?? null) || a - b);
  }
  return places;
}

const perLetter = 7.3; // width of a character of data, in pixels

/** usualWidth is how wide a column is at first, by its heading and some of its values. */
export function usualWidth(column: Column, rows: Row[], at: number): number {
  let letters = Math.max(column.name.length * 1.05, column.type.length * 0.95);
  for (const row of rows.slice(0, 60)) letters = Math.max(letters, (row[at] ?? '').length);
  return Math.round(Math.min(Math.max(letters * perLetter + 22, 54), 260));
}

/** within gives which of columns lying side by side are seen between two places. */
export function within(
  widths: number[],
  from: number,
  to: number,
): { first: number; last: number; before: number; behind: number } {
  let first = 0;
  let before = 0;
  while (first < widths.length && before + widths[first]! < from) before += widths[first++]!;
  let last = first;
  let at = before;
  while (last < widths.length && at < to) at += widths[last++]!;
  let behind = 0;
  for (let i = last; i < widths.length; i++) behind += widths[i]!;
  return { first, last, before, behind };
}

/** asTable writes cells so that a spreadsheet takes them: tabs between, a line a row. */
export function asTable(rows: Cell[][]): string {
  const cell = (v: Cell) => (v === null ? '' : /[\t\n\r"]/.test(v) ? `"${v.replaceAll('"', '""')}"` : v);
  return rows.map((r) => r.map(cell).join('\t')).join('\n');
}

/** fromTable reads cells that a spreadsheet put on the clipboard. */
export function fromTable(text: string): Cell[][] {
  const out: Cell[][] = [];
  let row: Cell[] = [];
  let at = 0;
  while (at < text.length) {
    let value = '';
    if (text[at] === '"') {
      at++;
      while (at < text.length && (text[at] !== '"' || text[at + 1] === '"')) {
        if (text[at] === '"') at++;
        value += text[at++];
      }
      at++;
    }
    const end = at + (/[\t\r\n]/.exec(text.slice(at))?.index ?? text.length - at);
    value += text.slice(at, end);
    row.push(value === '' ? null : value);
    at = end;
    if (text[at] === '\t') {
      if (++at === text.length) row.push(null);
      continue;
    }
    if (text[at] === '\r') at++;
    if (text[at] === '\n') at++;
    out.push(row);
    row = [];
  }
  if (row.length) out.push(row);
  return out;
}

/** json reads a cell that holds a list or an object. */
export function json(value: Cell): unknown {
  if (!value || !/^\s*[[{]/.test(value)) return undefined;
  try {
    return JSON.parse(value);
  } catch {
    return undefined;
  }
}
