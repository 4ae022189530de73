/** What became of a followed row at a step, as the differences of its cells. */
import type { Passed, Rows } from '../api/client';

export interface Difference {
  column: string;
  was?: string | null; // undefined for a column that is new
  is?: string | null; // undefined for a column that is gone
}

/** differences compares a row before a step with the same row behind it. */
export function differences(before: Rows | undefined, after: Rows | undefined, row = 0): Difference[] {
  const cells = (r: Rows | undefined, i: number) =>
    new Map((r?.columns ?? []).map((c, k): [string, string | null] => [c.name, r?.rows?.[i]?.[k] ?? null]));
  const was = cells(before, 0);
  const is = cells(after, row);
  const out: Difference[] = [];
  for (const [column, v] of is) {
    if (!was.has(column)) out.push({ column, is: v });
    else if (was.get(column) !== v) out.push({ column, was: was.get(column), is: v });
  }
  for (const [column, v] of was) if (!is.has(column)) out.push({ column, was: v });
  return out;
}

/** fateWords says in a few words what became of the row at a step. */
export function fateWords(p: Passed): string {
  const out = (p.after ?? []).filter((b) => b.total > 0);
  const to = out
    .map((b) => b.name)
    .filter((n) => n)
    .join(', ');
  const n = out.reduce((sum, b) => sum + b.total, 0);
  switch (p.fate) {
    case 'read':
      return 'read here';
    case 'passed':
      return to ? `went to ${to}` : 'passed as it was';
    case 'changed':
      return to ? `changed, went to ${to}` : 'changed';
    case 'several':
      return to ? `became ${n} rows, in ${to}` : `became ${n} rows`;
    case 'dropped':
      return 'dropped by the rule of this step';
    case 'set aside':
      return 'set aside';
    case 'absorbed':
      return 'taken into a group or into another row';
    case 'written':
      return 'would be written';
  }
}
