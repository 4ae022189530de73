import { describe, expect, it } from 'vitest';

import { layout, path } from './lanes';

const step = (id: string, ...inputs: string[]) => ({ id, inputs });

describe('lanes', () => {
  it('keeps a chain in one lane', () => {
    const l = layout([step('a'), step('b', 'a'), step('c', 'b')]);
    expect(l.lane).toEqual([0, 0, 0]);
    expect(l.count).toBe(1);
  });

  it('gives a second read a lane of its own that ends at the join', () => {
    const l = layout([
      step('logs'),
      step('typed', 'logs'),
      step('huts'),
      step('placed', 'typed', 'huts'),
      step('load', 'placed'),
    ]);
    expect(l.lane).toEqual([0, 0, 1, 0, 0]);
    expect(l.lines.find((x) => x.from === 2)).toMatchObject({ fromLane: 1, run: 1, toLane: 0 });
  });

  it('uses a lane again once it is free', () => {
    const l = layout([step('a'), step('b'), step('ab', 'a', 'b'), step('c'), step('abc', 'ab', 'c')]);
    expect(l.lane).toEqual([0, 1, 0, 1, 0]);
  });

  it('parts a branch from the main line', () => {
    const l = layout([step('a'), step('left', 'a'), step('right', 'a'), step('end', 'left')]);
    expect(l.lane[1]).toBe(0);
    expect(l.lane[2]).toBe(1);
  });

  it('never lets two lines share a lane over the same rows, on generated sheets', () => {
    let seed = 7;
    const random = (n: number) => (seed = (seed * 1103515245 + 12345) % 2 ** 31) % n;
    for (let sheet = 0; sheet < 200; sheet++) {
      const steps = [step('s0')];
      for (let i = 1; i < 3 + random(30); i++) {
        const inputs: string[] = [];
        if (random(5) > 0) inputs.push(`s${random(i)}`);
        if (inputs.length && random(4) === 0) inputs.push(`s${random(i)}`);
        steps.push(step(`s${i}`, ...inputs));
      }
      const l = layout(steps);
      expect(new Set(l.lane.map((lane, row) => `${lane}/${row}`)).size).toBe(steps.length);
      for (const a of l.lines)
        for (let row = a.from + 1; row < a.to; row++) {
          // a line that runs straight down past a step of its lane would look as if it came from there
          if (a.fromLane === a.toLane && l.lane[row] === a.fromLane)
            expect(a.from === row, `sheet ${sheet}: ${JSON.stringify(steps)}`).toBe(false);
        }
    }
  });

  it('draws a straight line within a lane and a bend between lanes', () => {
    const x = (lane: number) => 24 + 18 * lane;
    const y = (row: number) => 20 + 40 * row;
    expect(path({ from: 0, to: 1, fromLane: 0, run: 0, toLane: 0 }, x, y)).toBe('M24 20V60');
    expect(path({ from: 0, to: 2, fromLane: 1, run: 1, toLane: 0 }, x, y)).toMatch(/^M42 20V.*C/);
  });
});
