/**
 * The lanes in a sheet's margin: which vertical line each step stands on, and
 * the lines between. Computed from the steps alone, never arranged by hand.
 *
 * A step goes on in the lane of its first input when it is the first to do so.
 * Whatever else reads that input gets a lane of its own, which is kept free from
 * the input down to the reader; so no line ever lies over another or over a step
 * that it has nothing to do with. Among free lanes the one is taken on the way to
 * which the fewest others are crossed, of these the leftmost.
 */
export interface LaneStep {
  id: string;
  inputs: string[];
}

export interface LaneLine {
  from: number; // row of the step the rows come from
  to: number;
  fromLane: number;
  run: number; // the lane it runs down in
  toLane: number;
}

export interface Lanes {
  lane: number[]; // by row
  lines: LaneLine[];
  count: number;
}

export function layout(steps: LaneStep[]): Lanes {
  const row = new Map(steps.map((s, i) => [s.id, i]));
  // By source: who goes on in its lane, and who takes its rows in besides others.
  const goesOn = new Map<number, number>();
  const joins = new Map<number, number[]>();
  steps.forEach((s, i) =>
    s.inputs.forEach((input, n) => {
      const from = row.get(input);
      if (from === undefined || from >= i) return;
      if (n > 0) joins.set(from, [...(joins.get(from) ?? []), i]);
      else if (!goesOn.has(from)) goesOn.set(from, i);
    }),
  );

  const kept: { lane: number; from: number; to: number }[] = [];
  const bends: { low: number; high: number; at: number }[] = []; // where lines change their lane
  const bent = (a: number, b: number, at: number) => bends.push({ low: Math.min(a, b), high: Math.max(a, b), at });
  const isFree = (lane: number, from: number, to: number) =>
    !kept.some((k) => k.lane === lane && Math.max(k.from, from) < Math.min(k.to, to));
  /** A lane that is free between two rows, reached from a lane at the first of them. */
  function take(from: number, to: number, near?: number): number {
    let best = -1;
    let least = Infinity;
    const last = Math.max(-1, ...kept.map((k) => k.lane)) + 1;
    for (let l = 0; l <= last; l++) {
      if (!isFree(l, from, to)) continue;
      const over = bends.filter((b) => b.low < l && l < b.high && from < b.at && b.at < to).length;
      const across = near === undefined ? 0 : crossed(near, l, from + 0.3);
      if (over + across < least) [best, least] = [l, over + across];
    }
    kept.push({ lane: best, from, to });
    if (near !== undefined) bent(near, best, from + 0.3);
    return best;
  }
  const crossed = (a: number, b: number, at: number) => {
    const between = kept.filter((k) => k.lane > Math.min(a, b) && k.lane < Math.max(a, b) && k.from < at && at < k.to);
    return new Set(between.map((k) => k.lane)).size;
  };

  const lane: number[] = new Array<number>(steps.length).fill(-1);
  const runs = new Map<string, number>(); // by from and to: the lane of a line that is neither's
  steps.forEach((s, i) => {
    const next = goesOn.get(i);
    const beside = (joins.get(i) ?? []).filter((r) => next === undefined || r <= next);
    const end = Math.max(i + 0.5, next ?? 0, ...beside);
    const main = row.get(s.inputs[0] ?? '') ?? i;
    // A branch is placed when its reader comes, so that those that part later lie further in.
    if (main >= i) lane[i] = take(i - 0.5, end);
    else if (goesOn.get(main) === i) {
      lane[i] = lane[main]!;
      kept.push({ lane: lane[i]!, from: i, to: end });
    } else lane[i] = take(main, end, lane[main]);
    s.inputs.slice(1).forEach((input) => {
      const from = row.get(input);
      if (from === undefined || from >= i) return;
      let run = lane[from]!;
      if (i > (goesOn.get(from) ?? Infinity)) runs.set(`${from} ${i}`, (run = take(from, i, run)));
      bent(run, lane[i]!, i - 0.3);
    });
  });

  const lines: LaneLine[] = [];
  steps.forEach((s, i) => {
    s.inputs.forEach((input, n) => {
      const from = row.get(input);
      if (from === undefined) return;
      const run = runs.get(`${from} ${i}`) ?? (n === 0 ? lane[i]! : lane[from]!);
      lines.push({ from, to: i, fromLane: lane[from]!, run, toLane: lane[i]! });
    });
  });
  return { lane, lines, count: Math.max(-1, ...lane, ...runs.values()) + 1 };
}

/** path draws a line between two steps: into its lane at once, down, and out of it at the end. */
export function path(line: LaneLine, x: (lane: number) => number, y: (row: number) => number): string {
  const [x1, xr, x2, y1, y2] = [x(line.fromLane), x(line.run), x(line.toLane), y(line.from), y(line.to)];
  const down = y2 > y1 ? 1 : -1;
  const bend = Math.min(28, Math.abs(y2 - y1) / (x1 !== xr && xr !== x2 ? 2 : 1)) * down;
  let d = `M${x1} ${y1}`;
  if (x1 !== xr) d += `C${x1} ${y1 + (bend * 2) / 3} ${xr} ${y1 + bend / 3} ${xr} ${y1 + bend}`;
  if (xr === x2) return `${d}V${y2}`;
  return `${d}V${y2 - bend}C${xr} ${y2 - bend / 3} ${x2} ${y2 - (bend * 2) / 3} ${x2} ${y2}`;
}
