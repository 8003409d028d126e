/** Points along each side of the picture that is hashed. */
export const HASHED_SIDE = 32;
/** Frequencies along each side that make the hash. */
const FREQUENCIES = 8;
/** A picture without a feature of at least this strength has none to be told by: a bare sheet, a black frame. */
const LEAST_FEATURE = 8;

/**
 * Bits in which the hashes of two pictures of one scene differ at most: measured on pictures that were encoded anew, made smaller and cut
 * by 3 % (docs/repeats.md).
 */
export const NEARLY_ALIKE = 12;

const COSINES = Float64Array.from({ length: HASHED_SIDE * (FREQUENCIES + 1) }, (_, at) => {
  const [u, x] = [Math.floor(at / HASHED_SIDE), at % HASHED_SIDE];
  return Math.cos(((2 * x + 1) * u * Math.PI) / (2 * HASHED_SIDE));
});

/**
 * A perceptual hash by the discrete cosine transform: of a grey picture of 32 × 32 points the 64 lowest frequencies without those of
 * whole rows and columns, each told to be above their median or not. Method: "Implementation and Benchmarking of Perceptual Image Hash
 * Functions" (2010), §3.2; from memory.
 *
 * @param grey rows of 32 points from 0 to 255.
 * @returns 64 bits as a signed number; undefined of a picture without features.
 */
export function pictureHash(grey: Uint8Array): bigint | undefined {
  const rows = new Float64Array(HASHED_SIDE * FREQUENCIES);
  for (let y = 0; y < HASHED_SIDE; y++)
    for (let u = 1; u <= FREQUENCIES; u++) {
      let sum = 0;
      for (let x = 0; x < HASHED_SIDE; x++)
        sum += (grey[y * HASHED_SIDE + x] as number) * (COSINES[u * HASHED_SIDE + x] as number);
      rows[y * FREQUENCIES + u - 1] = sum;
    }
  const features = new Float64Array(FREQUENCIES * FREQUENCIES);
  for (let v = 1; v <= FREQUENCIES; v++)
    for (let u = 0; u < FREQUENCIES; u++) {
      let sum = 0;
      for (let y = 0; y < HASHED_SIDE; y++)
        sum += (rows[y * FREQUENCIES + u] as number) * (COSINES[v * HASHED_SIDE + y] as number);
      // In grey levels: half the amplitude of the wave in the picture.
      features[(v - 1) * FREQUENCIES + u] = (2 * sum) / HASHED_SIDE ** 2;
    }
  if (features.every((feature) => Math.abs(feature) < LEAST_FEATURE / FREQUENCIES)) return undefined;
  const sorted = features.slice().sort();
  const median = ((sorted[31] as number) + (sorted[32] as number)) / 2;
  let hash = 0n;
  for (const feature of features) hash = (hash << 1n) | (feature > median ? 1n : 0n);
  return BigInt.asIntN(64, hash);
}

/** In how many bits two hashes differ, each given in halves. */
export function bitsApart(high: number, low: number, otherHigh: number, otherLow: number): number {
  return bitsIn(high ^ otherHigh) + bitsIn(low ^ otherLow);
}

/** Ones among 32 bits, counted in pairs, fours and octets at once. */
function bitsIn(number: number): number {
  let bits = number - ((number >>> 1) & 0x55555555);
  bits = (bits & 0x33333333) + ((bits >>> 2) & 0x33333333);
  return Math.imul((bits + (bits >>> 4)) & 0x0f0f0f0f, 0x01010101) >>> 24;
}

/**
 * How sharp a grey picture is: the variance of its Laplacian (the difference of each point from its four neighbours). Common practice, no
 * source. Only pictures of the same scene and size can be compared by it.
 */
export function sharpnessOf(grey: Uint8Array, width: number, height: number): number {
  let [sum, squares, count] = [0, 0, 0];
  for (let y = 1; y + 1 < height; y++)
    for (let x = 1; x + 1 < width; x++) {
      const at = y * width + x;
      const edge =
        4 * (grey[at] as number) -
        (grey[at - 1] as number) -
        (grey[at + 1] as number) -
        (grey[at - width] as number) -
        (grey[at + width] as number);
      sum += edge;
      squares += edge * edge;
      count++;
    }
  return count === 0 ? 0 : squares / count - (sum / count) ** 2;
}
