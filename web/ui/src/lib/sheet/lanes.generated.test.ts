import { describe, expect, it } from 'vitest';

import { layout, type LaneLine, type Lanes, type LaneStep } from './lanes';

/** A generator of numbers that gives the same each time. */
function dice(seed: number): (below: number) => number {
  let x = seed * 2654435761 + 1;
  return (below) => {
    x = (Math.imul(x, 1664525) + 1013904223) >>> 0;
    return Math.floor((x / 2 ** 32) * below);
  };
}

/** A sheet as people build them: mostly one step after the other, with reads, joins, routes. */
function generated(seed: number, most = 150): LaneStep[] {
  const roll = dice(seed);
  const n = 3 + roll(most - 2);
  const steps: LaneStep[] = [];
  for (let i = 0; i < n; i++) {
    const recent = () => steps[Math.max(0, i - 1 - roll(4))]!.id;
    const what = roll(10);
    const inputs =
      i === 0 || what === 0
        ? []
        : what < 3 && i > 1
          ? [...new Set([steps[i - 1]!.id, recent()])]
          : what === 3
            ? [recent()]
            : [steps[i - 1]!.id];
    steps.push({ id: `s${i}`, inputs });
  }
  return steps;
}

/** crossings counts the places at which a line, where it changes its lane, passes over the lane of another. */
function crossings(l: Lanes): number {
  let n = 0;
  const over = (from: number, to: number, at: number, mine: LaneLine) => {
    for (const b of l.lines)
      if (b !== mine && b.run > Math.min(from, to) && b.run < Math.max(from, to) && b.from < at && at < b.to) n++;
  };
  for (const a of l.lines) {
    over(a.fromLane, a.run, a.from + 0.3, a);
    over(a.run, a.toLane, a.to - 0.3, a);
  }
  return n;
}

/** simple puts each read and each branch into the next lane to the right, and goes on in the first input's. */
function simple(steps: LaneStep[]): Lanes {
  const row = new Map(steps.map((s, i) => [s.id, i]));
  const taken = new Set<number>();
  const lane: number[] = [];
  let next = 0;
  steps.forEach((s, i) => {
    const main = row.get(s.inputs[0] ?? '');
    if (main !== undefined && !taken.has(main)) {
      taken.add(main);
      lane[i] = lane[main]!;
    } else lane[i] = next++;
  });
  const lines = steps.flatMap((s, i) =>
    s.inputs.map((input, k) => {
      const from = row.get(input)!;
      return { from, to: i, fromLane: lane[from]!, run: k === 0 ? lane[i]! : lane[from]!, toLane: lane[i]! };
    }),
  );
  return { lane, lines, count: next };
}

const seeds = Array.from({ length: 300 }, (_, i) => i + 1);

/** overlaid finds lines of different steps that lie over each other, and steps on lines that pass them. */
function overlaid(l: Lanes): string {
  for (const a of l.lines) {
    for (const b of l.lines)
      if (a.run === b.run && a.from !== b.from && a.to !== b.to && Math.min(a.to, b.to) > Math.max(a.from, b.from))
        return `lines ${a.from}–${a.to} and ${b.from}–${b.to} in lane ${a.run}`;
    for (let r = a.from + 1; r < a.to; r++) if (l.lane[r] === a.run) return `step ${r} on the line ${a.from}–${a.to}`;
  }
  return '';
}

describe('lanes of generated sheets', () => {
  it('never lay lines of different steps, or a step and a line, over each other', () => {
    for (const seed of seeds) expect(overlaid(layout(generated(seed))), `seed ${seed}`).toBe('');
  });

  it('hardly ever cross where a simple order that can be read does not, and seldom at all', () => {
    const [compared, worse, total] = [[] as number[], [] as number[], [0, 0]];
    for (let seed = 1; seed <= 3000; seed++) {
      const steps = generated(seed, 12);
      const [ours, plain] = [layout(steps), simple(steps)];
      if (overlaid(plain)) continue;
      compared.push(seed);
      const [a, b] = [crossings(ours), crossings(plain)];
      if (a > b) worse.push(seed);
      total[0]! += a;
      total[1]! += b;
      expect(ours.count, `seed ${seed}`).toBeLessThanOrEqual(plain.count);
    }
    expect(compared.length).toBeGreaterThan(500);
    expect(worse.length / compared.length, `seeds ${worse.slice(0, 9).join()}`).toBeLessThan(0.005);
    expect(total[0]).toBeLessThan(total[1]!);
  });

  it('stay as they are above a step that is added at the end, and in their order below one added between', () => {
    for (const seed of seeds) {
      const steps = generated(seed);
      const before = layout(steps);
      const added = layout([...steps, { id: 'new', inputs: [steps.at(-1)!.id] }]);
      expect(added.lane.slice(0, steps.length), `seed ${seed}`).toEqual(before.lane);

      const at = dice(seed + 1000)(steps.length);
      const s = steps[at]!;
      const between = [
        ...steps.slice(0, at + 1),
        { id: 'new', inputs: [s.id] },
        ...steps.slice(at + 1).map((x) => ({ ...x, inputs: x.inputs.map((i) => (i === s.id ? 'new' : i)) })),
      ];
      const lanes = layout(between).lane.filter((_, i) => i !== at + 1);
      expect(lanes, `seed ${seed}, after step ${at}`).toEqual(before.lane);
    }
  });
});
