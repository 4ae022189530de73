import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete';

import type { StepKind } from '../api/client';
import type { Schema } from '../components/SchemaForm.svelte';

/** What can be written in the text of a sheet. */
export interface YamlWords {
  kinds: StepKind[];
  steps: string[]; // and their outputs
  columns: (step: string) => string[]; // of the rows that come into a step
  types: string[];
}

const whole = ['welkin', 'name', 'description', 'parameters', 'limits', 'engine', 'stretches', 'examples', 'steps'];
const ofStep = ['step', 'does', 'from', 'with', 'note', 'problems'];
const inside: Record<string, string[]> = {
  parameters: ['name', 'type', 'default', 'note'],
  limits: ['set_aside', 'share'],
  stretches: ['name', 'first', 'last'],
  examples: ['name', 'note', 'given', 'expect', 'step', 'rows'],
};

/** What stands around a place in the text: the keys it lies under, and the step. */
interface Place {
  section: string; // the key without a blank before it
  path: string[]; // the keys within the step, or the section, that the place lies under
  step: string;
  kind: string;
}

/** placeAt reads upwards from a line: each line with fewer blanks before it encloses it. */
export function placeAt(lines: string[], at: number, indent: number): Place {
  const place: Place = { section: '', path: [], step: '', kind: '' };
  let least = indent;
  let top = at;
  for (let i = at - 1; i >= 0; i--) {
    const m = /^(\s*)((?:- )?)([\w]+):/.exec(lines[i]!);
    if (!m) continue;
    const key = m[3]!;
    const keyIndent = m[1]!.length + m[2]!.length;
    if (m[1]!.length === 0 && !m[2]) {
      place.section = key;
      break;
    }
    if (key === 'step' && m[2] && m[1]!.length === 2 && !place.step) {
      place.step = lines[i]!.replace(/^\s*- step:\s*/, '')
        .replace(/^(['"])(.*)\1\s*$/, '$2')
        .trim();
      top = i;
    }
    if (keyIndent < least && !place.step) {
      place.path.unshift(key);
      least = keyIndent;
    }
  }
  for (let i = top; i < lines.length && (i === top || !/^ {0,2}(- |\S)/.test(lines[i]!)); i++) {
    const m = /^\s*does:\s*(.+?)\s*$/.exec(lines[i]!);
    if (m) place.kind = m[1]!;
  }
  return place;
}

/** schemaAt follows a path of keys into the settings of a kind. */
export function schemaAt(schema: Schema | undefined, path: string[]): Schema | undefined {
  let s = schema;
  for (const key of path) {
    s = s?.properties?.[key];
    if (s?.items) s = s.items.properties ? s.items : s;
  }
  return s;
}

const options = (words: string[], more: Partial<Completion> = {}) => words.map((label) => ({ label, ...more }));

/** completeYaml offers what may stand at a place: keys, kinds, steps, columns, words. */
export function completeYaml(words: () => YamlWords) {
  return (context: CompletionContext): CompletionResult | null => {
    const lines = context.state.doc.toString().split('\n');
    const number = context.state.doc.lineAt(context.pos).number - 1;
    const before = lines[number]!.slice(0, context.pos - context.state.doc.lineAt(context.pos).from);
    if (/(^|\s)#/.test(before)) return null;
    const w = words();

    const key = /^(\s*)((?:- )?)(\w*)$/.exec(before);
    if (key) {
      if (!key[3] && !context.explicit) return null;
      const indent = key[1]!.length + key[2]!.length;
      const from = context.pos - key[3]!.length;
      const place = placeAt(lines, number, indent);
      const colon = (list: string[], kind?: Schema): CompletionResult => ({
        from,
        options: list.map((label) => ({ label, apply: `${label}: `, info: kind?.properties?.[label]?.description })),
        validFor: /^\w*$/,
      });
      if (indent === 0) return colon(whole);
      if (place.section !== 'steps') return place.section in inside ? colon(inside[place.section]!) : null;
      if (indent === 4 && key[2]) return colon(['step']);
      const kind = schemaAt(w.kinds.find((k) => k.name === place.kind)?.schema as Schema | undefined, place.path);
      // A list of words is chosen among the columns; keys stand everywhere else.
      if (key[2] && !kind?.properties) return { from, options: options(w.columns(place.step)), validFor: /^[\w ]*$/ };
      return colon([...(place.path.length ? [] : ofStep), ...Object.keys(kind?.properties ?? {})], kind);
    }

    const value = /^(\s*)((?:- )?)(\w+):\s+(\S.*|)$/.exec(before);
    if (!value) return null;
    const [, blanks, dash, name, typed] = value as unknown as [string, string, string, string, string];
    const place = placeAt(lines, number, blanks.length + dash.length);
    const list = /[[,]\s*([^,[\]]*)$/.exec(typed);
    const part = list ? list[1]! : typed;
    const from = context.pos - part.length;
    const at = (found: string[]): CompletionResult | null =>
      found.length ? { from, options: options(found), validFor: /^[\w .]*$/ } : null;
    if (name === 'does') return at(w.kinds.map((k) => k.name));
    if (['from', 'with', 'first', 'last'].includes(name) || (name === 'step' && place.section === 'examples'))
      return at(w.steps);
    if (name === 'engine') return at(['database', 'own']);
    if (name === 'problems') return at(['set aside', 'stop']);
    if (name === 'type') return at(w.types);
    const s = schemaAt(w.kinds.find((k) => k.name === place.kind)?.schema as Schema | undefined, [...place.path, name]);
    if (s?.enum ?? s?.items?.enum) return at((s?.enum ?? s?.items?.enum)!);
    if (s?.type === 'boolean') return at(['true', 'false']);
    if (s?.type === 'array' || /^(take|left|right|by|column|at|order_by)$/.test(name)) return at(w.columns(place.step));
    return null;
  };
}
