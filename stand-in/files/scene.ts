import { Random } from '../message/random';
import type { Colour } from './jpeg';

const SKIES: readonly [Colour, Colour][] = [
  [
    [120, 168, 214],
    [222, 232, 236],
  ],
  [
    [96, 120, 152],
    [214, 196, 178],
  ],
  [
    [176, 190, 202],
    [228, 228, 222],
  ],
];
const GROUNDS: readonly [Colour, Colour, Colour][] = [
  [
    [128, 152, 120],
    [98, 138, 74],
    [72, 104, 48],
  ],
  [
    [150, 150, 118],
    [168, 142, 76],
    [112, 92, 58],
  ],
  [
    [122, 140, 150],
    [88, 128, 108],
    [58, 92, 72],
  ],
];

/** A landscape as invented photographs show it: sky, a sun, hills and beds. Places are from 0 to 1, from the top left. */
export function scene(seed: number): (u: number, v: number) => Colour {
  const random = new Random(seed);
  const [high, low] = SKIES[random.below(SKIES.length)] as [Colour, Colour];
  const grounds = GROUNDS[random.below(GROUNDS.length)] as [Colour, Colour, Colour];
  const sun = [0.1 + 0.8 * random.next(), 0.1 + 0.2 * random.next(), 0.03 + 0.05 * random.next()] as const;
  const hills = [0.42, 0.58, 0.74].map((line) => ({
    line: line + 0.08 * (random.next() - 0.5),
    height: 0.03 + 0.06 * random.next(),
    waves: 1 + 3 * random.next(),
    from: 7 * random.next(),
  }));
  const rows = 6 + random.below(12);
  return (u, v) => {
    for (let at = 2; at >= 0; at--) {
      const { line, height, waves, from } = hills[at] as (typeof hills)[number];
      const top = line + height * Math.sin(from + waves * Math.PI * u);
      if (v < top) continue;
      const ground = grounds[at] as Colour;
      // Beds run towards the eye.
      const isBed = at === 2 && Math.floor((rows * (u - 0.5)) / (0.2 + v - top) + 100) % 2 === 0;
      const shade = (isBed ? 0.8 : 1) * (1 - 0.25 * (v - top));
      return [ground[0] * shade, ground[1] * shade, ground[2] * shade];
    }
    if (Math.hypot((u - sun[0]) * 1.33, v - sun[1]) < sun[2]) return [252, 240, 200];
    const mix = Math.min(1, v / 0.5);
    return [high[0] + (low[0] - high[0]) * mix, high[1] + (low[1] - high[1]) * mix, high[2] + (low[2] - high[2]) * mix];
  };
}
