import type { Profile } from '../api/client';

/** share writes a part of rows in per cent: 0, under 1 %, 37 %. */
export function share(part: number, of: number): string {
  if (!part || !of) return '0';
  const p = (part / of) * 100;
  if (p < 1) return '<1 %';
  if (p > 99 && part < of) return '>99 %';
  return `${Math.round(p)} %`;
}

/** shapes gives the shapes worth telling: fewer than there are values. */
export function shapes(p: Profile): { text: string; rows: number }[] {
  const list = p.shapes ?? [];
  return list.length < (p.frequent ?? []).length || list.length <= 3 ? list.slice(0, 8) : [];
}
