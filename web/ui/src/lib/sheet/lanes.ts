/**
 * The lanes in a sheet's margin: which vertical line each step stands on, and
 * the lines between. Computed from the steps alone, never arranged by hand.
 *
 * A step goes on in the lane of its first input when it is that input's first
 * reader; otherwise, and for a read, it takes the leftmost lane that is free
 * from where it branches off down to itself.
 */
export interface LaneStep {
  id: string;
  inputs: string[];
}

export interface LaneLine {
  from: number; // row of the step the rows come from
  to: number;
  fromLane: number;
  toLane: number;
  ink: number; // lane whose ink the line is drawn in
}

export interface Lanes {
  lane: number[]; // by row
  lines: LaneLine[];
  count: number;
}

export function layout(steps: LaneStep[]): Lanes {
  const row = new Map(steps.map((s, i) => [s.id, i]));
  const readers = new Map<number, number[]>();
  steps.forEach((s, i) => {
    for (const input of s.inputs) {
      const from = row.get(input);
      if (from !== undefined) readers.set(from, [...(readers.get(from) ?? []), i]);
    }
  });
  // A lane is in use from a step down to the last step that reads it.
  const lastUse = steps.map((_, i) => Math.max(i, ...(readers.get(i) ?? [])));
  const lane: number[] = new Array<number>(steps.length).fill(-1);
  const busy: { lane: number; from: number; to: number }[] = [];
  const free = (l: number, from: number, to: number) =>
    !busy.some((b) => b.lane === l && Math.max(b.from, from) < Math.min(b.to, to));

  steps.forEach((s, i) => {
    const main = row.get(s.inputs[0] ?? '');
    const goesOn = main !== undefined && main < i && readers.get(main)?.[0] === i;
    let l = goesOn ? lane[main]! : 0;
    const from = main !== undefined && main < i ? main : i - 0.5;
    if (!goesOn) while (!free(l, from, lastUse[i]! + 0.5)) l++;
    lane[i] = l;
    busy.push({ lane: l, from: goesOn ? i : from, to: Math.max(lastUse[i]!, i + 0.5) });
  });

  const lines: LaneLine[] = [];
  steps.forEach((s, i) => {
    s.inputs.forEach((input, n) => {
      const from = row.get(input);
      if (from === undefined) return;
      lines.push({ from, to: i, fromLane: lane[from]!, toLane: lane[i]!, ink: n === 0 ? lane[i]! : lane[from]! });
    });
  });
  return { lane, lines, count: Math.max(0, ...lane) + 1 };
}

/** path draws a line between two steps: straight down its lane, then a bend. */
export function path(line: LaneLine, x: (lane: number) => number, y: (row: number) => number): string {
  const [x1, x2, y1, y2] = [x(line.fromLane), x(line.toLane), y(line.from), y(line.to)];
  if (x1 === x2) return `M${x1} ${y1}V${y2}`;
  const bend = Math.min(28, Math.abs(y2 - y1)) * (y2 > y1 ? 1 : -1);
  // Rows that join run down their own lane and bend in at the end; rows that
  // branch off bend at once and run down the new lane.
  if (line.ink === line.fromLane)
    return `M${x1} ${y1}V${y2 - bend}C${x1} ${y2 - bend / 3} ${x2} ${y2 - (bend * 2) / 3} ${x2} ${y2}`;
  return `M${x1} ${y1}C${x1} ${y1 + (bend * 2) / 3} ${x2} ${y1 + bend / 3} ${x2} ${y1 + bend}V${y2}`;
}
