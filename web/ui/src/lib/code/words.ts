import type { Completion, CompletionContext, CompletionResult, CompletionSource } from '@codemirror/autocomplete';
import { getContext, setContext } from 'svelte';

import type { Column } from '../api/client';

/** What can be written where code is typed: asked for anew each time, since columns change while one types. */
export interface Words {
  columns: Column[];
  tables: { name: string; columns: Column[] }[];
  functions: Help[];
  aggregates: Help[];
  parameters: { name: string; type: string }[];
}

/** Help is what the catalogue says of a function. */
export interface Help {
  name: string;
  signature?: string;
  help: string;
  example: string;
}

const key = Symbol('words');
export const offerWords = (words: () => Words) => setContext(key, words);
export const wordsHere = () => getContext<(() => Words) | undefined>(key);

const plainName = /^[a-z_][a-z0-9_]*$/;
const reserved = new Set(
  'all and any array as asc between both case cast check collate column constraint create current_date default desc distinct do else end except false fetch for foreign from grant group having in into is join leading like limit not null offset on only or order primary references select some table then to trailing true union unique user using when where window with'.split(
    ' ',
  ),
);

/** quoteName writes a name as SQL needs it. */
export const quoteName = (name: string) =>
  plainName.test(name) && !reserved.has(name) ? name : `"${name.replaceAll('"', '""')}"`;

const operators =
  'AND OR NOT IS IN BETWEEN LIKE ILIKE SIMILAR CASE WHEN THEN ELSE END CAST NULL TRUE FALSE DISTINCT EXTRACT INTERVAL DATE TIMESTAMP FILTER WITHIN'.split(
    ' ',
  );
const clauses =
  'SELECT FROM WHERE GROUP BY HAVING ORDER LIMIT JOIN LEFT RIGHT FULL INNER CROSS ON USING UNION ALL INTERSECT EXCEPT WITH AS OVER PARTITION ROWS RANGE UNBOUNDED PRECEDING FOLLOWING CURRENT ROW ASC DESC NULLS FIRST LAST EXISTS'.split(
    ' ',
  );

/** The pieces of code before a place, so far that it is known whether a text or a comment is open there. */
function inText(before: string): boolean {
  return (before.replaceAll("''", '').match(/'/g)?.length ?? 0) % 2 === 1;
}

/** completionsFor gives a source of completions for expressions, statements or scripts. */
export function completionsFor(language: 'sql' | 'query' | 'script', words: () => Words): CompletionSource {
  return (context: CompletionContext): CompletionResult | null => {
    const before = context.state.sliceDoc(0, context.pos);
    if (language === 'script') return inScript(context, words());
    if (inText(before)) return null;
    const parameter = /:(\w*)$/.exec(before);
    if (parameter && !before.endsWith('::' + parameter[1]))
      return {
        from: context.pos - parameter[1]!.length,
        options: words().parameters.map((p) => ({ label: p.name, detail: p.type })),
        validFor: /^\w*$/,
      };
    const dotted = /("?)([\p{L}_][\p{L}\p{N}_ ]*)\1\.("?[\p{L}\p{N}_]*)$/u.exec(before);
    if (dotted) {
      const table = words().tables.find((t) => t.name === dotted[2]);
      const columns = table?.columns ?? (language === 'query' ? words().tables.flatMap((t) => t.columns) : []);
      return { from: context.pos - dotted[3]!.length, options: columns.map(asColumn), validFor: /^"?[\p{L}\p{N}_]*$/u };
    }
    const typed = /"?[\p{L}_][\p{L}\p{N}_]*$/u.exec(before);
    if (!typed && !context.explicit) return null;
    return {
      from: context.pos - (typed?.[0].length ?? 0),
      options: [
        ...words().columns.map(asColumn),
        ...(language === 'query'
          ? words().tables.map((t) => ({ label: t.name, apply: quoteName(t.name), detail: 'step', boost: 1 }))
          : []),
        ...words().functions.map(asFunction),
        ...words().aggregates.map(asFunction),
        ...[...operators, ...(language === 'query' ? clauses : [])].map((label) => ({ label, boost: -1 })),
      ],
      validFor: /^"?[\p{L}\p{N}_]*$/u,
    };
  };
}

const asColumn = (c: Column): Completion => ({
  label: c.name,
  apply: quoteName(c.name),
  detail: c.type,
  info: c.description || undefined,
  boost: 2,
});
const asFunction = (f: Help): Completion => ({
  label: f.name,
  apply: f.name + '(',
  detail: f.signature?.slice(f.name.length) ?? '(…)',
  info: `${f.help}\n${f.example}`,
});

/** In a script the columns of a row are its fields, written row["hut"]. */
function inScript(context: CompletionContext, words: Words): CompletionResult | null {
  const field = context.matchBefore(/\[["'][\p{L}\p{N}_ ]*$/u);
  if (field)
    return {
      from: field.from + 2,
      options: words.columns.map((c) => ({ label: c.name, detail: c.type })),
      validFor: /^[\p{L}\p{N}_ ]*$/u,
    };
  const typed = context.matchBefore(/[\p{L}_]\w*$/u);
  if (!typed && !context.explicit) return null;
  return {
    from: typed?.from ?? context.pos,
    options: 'def return for in if elif else not and or True False None len str int float range sorted min max'
      .split(' ')
      .map((label) => ({ label })),
    validFor: /^\w*$/,
  };
}

/** functionAt finds the function that stands at a place, or in whose brackets it stands. */
export function functionAt(text: string, at: number): string | undefined {
  const word = /[\p{L}_][\p{L}\p{N}_]*$/u.exec(text.slice(0, at))?.[0] ?? '';
  const rest = /^[\p{L}\p{N}_]*/u.exec(text.slice(at))![0];
  if ((word || rest) && /^\s*\(/.test(text.slice(at + rest.length))) return (word + rest).toLowerCase();
  const around: (string | undefined)[] = []; // names before the brackets that are open
  let quoted = false;
  for (let i = 0; i < at; i++) {
    if (text[i] === "'") quoted = !quoted;
    if (quoted) continue;
    if (text[i] === '(') around.push(/([\p{L}_][\p{L}\p{N}_]*)\s*$/u.exec(text.slice(0, i))?.[1]?.toLowerCase());
    if (text[i] === ')') around.pop();
  }
  return around.findLast((name) => name !== undefined);
}

/** helpFor gives what the catalogue says of a function, several lines where it takes several kinds of arguments. */
export function helpFor(name: string | undefined, words: Words): Help[] {
  if (!name) return [];
  return [...words.functions, ...words.aggregates].filter((f) => f.name === name);
}
