import { describe, expect, it } from 'vitest';

import type { Profile } from '../api/client';
import { shapes, share } from './profile';

describe('a share', () => {
  it.each([
    [0, 10, '0'],
    [1, 1000, '<1 %'],
    [999, 1000, '>99 %'],
    [1000, 1000, '100 %'],
    [1, 3, '33 %'],
    [0, 0, '0'],
  ])('of %i in %i is %s', (part, of, want) => expect(share(part, of)).toBe(want));
});

describe('shapes', () => {
  const values = (n: number) => Array.from({ length: n }, (_, i) => ({ text: `X9${i}`, rows: 1 }));
  const profile = (shapes: number, frequent: number) =>
    ({ shapes: values(shapes), frequent: values(frequent) }) as unknown as Profile;

  it('are told when they say more than the values', () => expect(shapes(profile(2, 10))).toHaveLength(2));
  it('are left out when each value has its own', () => expect(shapes(profile(9, 9))).toHaveLength(0));
  it('are at most eight', () => expect(shapes(profile(12, 20))).toHaveLength(8));
});
