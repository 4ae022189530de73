import type { Layout, LayoutField } from '../api/client';

/** Places count characters from 1, as people do; `end` is the place behind the last. */
export const end = (f: LayoutField) => f.start + f.length;

/** inOrder gives fields by their place. */
export const inOrder = (fields: LayoutField[]) => [...fields].sort((a, b) => a.start - b.start || a.length - b.length);

/** moveEnd lets a field end before a place. Following fields move along, or stay: then the
 * next one gives up or takes what lies between. */
export function moveEnd(fields: LayoutField[], name: string, place: number, along: boolean): LayoutField[] {
  const list = inOrder(fields);
  const at = list.findIndex((f) => f.name === name);
  if (at < 0) return fields;
  const f = list[at]!;
  let to = Math.max(place, f.start + 1);
  const next = list[at + 1];
  if (along) {
    const by = to - end(f);
    return list.map((x, i) => (i === at ? { ...x, length: to - x.start } : i > at ? { ...x, start: x.start + by } : x));
  }
  if (next) to = Math.min(to, end(next) - 1); // a character of it stays
  const touches = next && (next.start < to || next.start === end(f));
  return list.map((x, i) => {
    if (i === at) return { ...x, length: to - x.start };
    if (i === at + 1 && touches) return { ...x, start: to, length: end(x) - to };
    return x;
  });
}

/** moveStart lets a field begin at a place; the one before gives up what it loses. */
export function moveStart(fields: LayoutField[], name: string, place: number): LayoutField[] {
  const list = inOrder(fields);
  const at = list.findIndex((f) => f.name === name);
  if (at < 0) return fields;
  const f = list[at]!;
  const before = list[at - 1];
  const from = Math.min(Math.max(place, before ? before.start + 1 : 1), end(f) - 1);
  return list.map((x, i) => {
    if (i === at) return { ...x, start: from, length: end(f) - from };
    if (i === at - 1 && end(x) > from) return { ...x, length: from - x.start };
    return x;
  });
}

/** freeName gives a name that no field has. */
export function freeName(fields: LayoutField[], start: number): string {
  const names = new Set(fields.map((f) => f.name));
  let name = `field_${start}`;
  for (let n = 2; names.has(name); n++) name = `field_${start}_${n}`;
  return name;
}

/** addField adds a field of text from one place to another, both in it; undefined where
 * others stand. */
export function addField(fields: LayoutField[], a: number, b: number): LayoutField[] | undefined {
  const [start, last] = [Math.min(a, b), Math.max(a, b)];
  if (fields.some((f) => f.start <= last && end(f) > start)) return undefined;
  return inOrder([...fields, { name: freeName(fields, start), start, length: last - start + 1, type: 'text' }]);
}

/** fieldAt finds the field that holds a place. */
export const fieldAt = (fields: LayoutField[], place: number) => fields.find((f) => f.start <= place && end(f) > place);

/** ofType gives the records that are of a type, by their code; all where there is one type. */
export function ofType(layout: Layout, type: number, lines: string[]): number[] {
  const code = layout.code;
  const all = lines.map((_, i) => i);
  if (!code) return all;
  const want = layout.records[type]?.code ?? '';
  return all.filter(
    (i) =>
      [...lines[i]!]
        .slice(code.start - 1, code.start - 1 + code.length)
        .join('')
        .trimEnd() === want,
  );
}

/** bytesAt gives the bytes of a character in hexadecimal: of records of lines by their
 * characters, of others by place. */
export function bytesAt(line: string, hex: string, place: number, byBytes: boolean): string {
  if (byBytes) return hex.slice(2 * (place - 1), 2 * place);
  const c = [...line][place - 1];
  if (c === undefined) return '';
  return [...new TextEncoder().encode(c)].map((b) => b.toString(16).padStart(2, '0')).join(' ');
}
