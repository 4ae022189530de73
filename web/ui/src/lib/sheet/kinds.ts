import type { StepKind } from '../api/client';

/** The kinds of step that what was typed may mean, the likeliest first: every word
 * typed must be found; a word that begins a word of the name counts most, then one
 * that begins a word of the help, then one found inside a word. */
export function meant(kinds: StepKind[], typed: string): StepKind[] {
  const words = typed.trim().toLowerCase().split(/\s+/).filter(Boolean);
  return kinds
    .map((kind) => ({ kind, rank: Math.min(...words.map((w) => fit(kind, w)), 3) }))
    .filter((k) => k.rank > 0)
    .sort((a, b) => b.rank - a.rank)
    .map((k) => k.kind);
}

function fit(kind: StepKind, word: string): number {
  const begins = (text: string) => ` ${text.toLowerCase()}`.includes(` ${word}`);
  if (begins(kind.name)) return 3;
  const rest = `${kind.help} ${kind.words}`;
  if (begins(rest)) return 2;
  return `${kind.name} ${rest}`.toLowerCase().includes(word) ? 1 : 0;
}
