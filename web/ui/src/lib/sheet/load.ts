import type { LoadPreview } from '../api/client';

const words: Record<string, string> = {
  insert: 'new',
  change: 'becomes',
  same: 'the same',
  'leave out': 'left out',
  superseded: 'superseded',
  refuse: 'refused',
};

/** previewLines lays the rows of a load out: a row that changes stands below what it is now. */
export function previewLines(
  load: LoadPreview,
  only: string,
): { rows: (string | null)[][]; changed: (Set<string> | undefined)[] } {
  const rows: (string | null)[][] = [];
  const changed: (Set<string> | undefined)[] = [];
  for (const r of load.rows ?? []) {
    if (only && r.what !== only) continue;
    if (r.what === 'change' && r.before) {
      rows.push(['is now', ...r.before]);
      changed.push(undefined);
    }
    rows.push([r.sentence ? `refused: ${r.sentence}` : (words[r.what] ?? r.what), ...(r.cells ?? [])]);
    changed.push(r.what === 'change' ? new Set(r.changed ?? []) : undefined);
  }
  return { rows, changed };
}
