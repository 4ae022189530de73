import type { Example } from './editor.svelte';

/** asText writes rows as an example keeps them: a header line, commas between; nulls are empty. */
export function asText(names: string[], rows: (string | null)[][]): string {
  const cell = (v: string | null) => (v === null ? '' : /[",\n\r]/.test(v) ? `"${v.replaceAll('"', '""')}"` : v);
  return [names, ...rows].map((r) => r.map(cell).join(',')).join('\n') + '\n';
}

/** fromText reads the rows of an example; a value that is missing or empty is null. */
export function fromText(text: string): { names: string[]; rows: (string | null)[][] } {
  const records: string[][] = [[]];
  let value = '';
  let quoted = false;
  const end = () => (records.at(-1)!.push(value), (value = ''));
  for (let i = 0; i < text.length; i++) {
    const c = text[i]!;
    if (quoted && c === '"' && text[i + 1] === '"') value += text[i++];
    else if (c === '"') quoted = !quoted;
    else if (quoted) value += c;
    else if (c === ',') end();
    else if (c === '\n') {
      end();
      records.push([]);
    } else if (c !== '\r') value += c;
  }
  if (value !== '' || records.at(-1)!.length) end();
  else records.pop();
  const [names = [], ...rows] = records;
  return { names, rows: rows.map((r) => names.map((_, i) => r[i] || null)) };
}

/** withGiven keeps rows given at a place in an example of a name: a new one, or instead of what it has there. */
export function withGiven(examples: Example[], name: string, step: string, rows: string): Example[] {
  const old = examples.find((e) => e.name === name);
  if (!old) return [...examples, { name, given: [{ step, rows }] }];
  const given = [...old.given.filter((g) => g.step !== step), { step, rows }];
  return examples.map((e) => (e === old ? { ...e, given } : e));
}

/** withExpected says which rows must come out of a place. */
export function withExpected(examples: Example[], name: string, step: string, rows: string): Example[] {
  return examples.map((e) =>
    e.name === name ? { ...e, expect: [...(e.expect ?? []).filter((x) => x.step !== step), { step, rows }] } : e,
  );
}
