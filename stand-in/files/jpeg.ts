/**
 * A baseline JPEG encoder (ITU-T T.81) for pictures of blocks. A restart interval of one unit makes each block's octets stand
 * for themselves, so that a picture of any size is put together of blocks that were encoded once.
 */

export type Colour = readonly [red: number, green: number, blue: number];

/** Places of a block in the order of rising frequency (T.81, figure A.6). */
const ZIGZAG = [
  0, 1, 8, 16, 9, 2, 3, 10, 17, 24, 32, 25, 18, 11, 4, 5, 12, 19, 26, 33, 40, 48, 41, 34, 27, 20, 13, 6, 7, 14, 21, 28,
  35, 42, 49, 56, 57, 50, 43, 36, 29, 22, 15, 23, 30, 37, 44, 51, 58, 59, 52, 45, 38, 31, 39, 46, 53, 60, 61, 54, 47,
  55, 62, 63,
];

/** Codes by their lengths, and their values (T.81, tables K.3 and K.5). */
const DC = { counts: [0, 1, 5, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 0, 0], values: [0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11] };
const AC = {
  counts: [0, 2, 1, 3, 3, 2, 4, 3, 5, 5, 4, 4, 0, 0, 1, 125],
  values: [
    ...Buffer.from(
      '01020300041105122131410613516107227114328191a1082342b1c11552d1f02433627282090a161718191a25262728292a3435363738393a' +
        '434445464748494a535455565758595a636465666768696a737475767778797a838485868788898a92939495969798999aa2a3a4a5a6a7a8' +
        'a9aab2b3b4b5b6b7b8b9bac2c3c4c5c6c7c8c9cad2d3d4d5d6d7d8d9dae1e2e3e4e5e6e7e8e9eaf1f2f3f4f5f6f7f8f9fa',
      'hex',
    ),
  ],
};
/** One step for all frequencies. */
const QUANTUM = 8;

/** By value, its code and how many bits it has (T.81 §C.2). */
function codesOf({ counts, values }: typeof DC): Map<number, readonly [code: number, bits: number]> {
  const codes = new Map<number, readonly [number, number]>();
  let code = 0;
  let at = 0;
  counts.forEach((count, index) => {
    for (let n = 0; n < count; n++) codes.set(values[at++] as number, [code++, index + 1]);
    code <<= 1;
  });
  return codes;
}

const DC_CODES = codesOf(DC);
const AC_CODES = codesOf(AC);

const COSINES = Float64Array.from({ length: 64 }, (_, at) => {
  const [u, x] = [at >> 3, at & 7];
  return (u === 0 ? Math.SQRT1_2 : 1) * 0.5 * Math.cos(((2 * x + 1) * u * Math.PI) / 16);
});

/** The cosine transform of 8 × 8 samples (T.81 §A.3.3), quantised, in the order of rising frequency. */
function quantised(samples: Float64Array): Int32Array {
  const rows = new Float64Array(64);
  for (let y = 0; y < 8; y++)
    for (let u = 0; u < 8; u++)
      for (let x = 0; x < 8; x++)
        rows[y * 8 + u] = (rows[y * 8 + u] as number) + (samples[y * 8 + x] as number) * (COSINES[u * 8 + x] as number);
  return Int32Array.from(ZIGZAG, (place) => {
    const [v, u] = [place >> 3, place & 7];
    let sum = 0;
    for (let y = 0; y < 8; y++) sum += (rows[y * 8 + u] as number) * (COSINES[v * 8 + y] as number);
    return Math.round(sum / QUANTUM);
  });
}

/** Bits, put together into octets; an octet of ones is followed by one of zeros (T.81 §F.1.2.3). */
class Bits {
  readonly octets: number[] = [];
  private held = 0;
  private count = 0;

  add([code, bits]: readonly [number, number]): void {
    for (let bit = bits - 1; bit >= 0; bit--) {
      this.held = (this.held << 1) | ((code >> bit) & 1);
      if (++this.count < 8) continue;
      this.octets.push(this.held);
      if (this.held === 0xff) this.octets.push(0);
      this.held = 0;
      this.count = 0;
    }
  }

  end(): Buffer {
    while (this.count > 0) this.add([1, 1]);
    return Buffer.from(this.octets);
  }
}

/** How many bits a value takes, and those bits (T.81 §F.1.2.1). */
function magnitude(value: number): readonly [code: number, bits: number] {
  const bits = value === 0 ? 0 : 32 - Math.clz32(Math.abs(value));
  return [value < 0 ? value + (1 << bits) - 1 : value, bits];
}

function addComponent(bits: Bits, samples: Float64Array): void {
  const values = quantised(samples);
  const first = magnitude(values[0] as number);
  bits.add(DC_CODES.get(first[1]) as readonly [number, number]);
  bits.add(first);
  let zeros = 0;
  for (let at = 1; at < 64; at++) {
    if (values[at] === 0) {
      zeros++;
      continue;
    }
    for (; zeros > 15; zeros -= 16) bits.add(AC_CODES.get(0xf0) as readonly [number, number]);
    const value = magnitude(values[at] as number);
    bits.add(AC_CODES.get((zeros << 4) | value[1]) as readonly [number, number]);
    bits.add(value);
    zeros = 0;
  }
  if (zeros > 0) bits.add(AC_CODES.get(0) as readonly [number, number]);
}

/** The octets of a block of 8 × 8 points. */
export function encodeBlock(at: (x: number, y: number) => Colour): Buffer {
  const planes = [new Float64Array(64), new Float64Array(64), new Float64Array(64)] as const;
  for (let y = 0; y < 8; y++)
    for (let x = 0; x < 8; x++) {
      const [red, green, blue] = at(x, y);
      // JFIF (ITU-T T.871 §7), with the middle at zero.
      planes[0][y * 8 + x] = 0.299 * red + 0.587 * green + 0.114 * blue - 128;
      planes[1][y * 8 + x] = -0.1687 * red - 0.3313 * green + 0.5 * blue;
      planes[2][y * 8 + x] = 0.5 * red - 0.4187 * green - 0.0813 * blue;
    }
  const bits = new Bits();
  for (const plane of planes) addComponent(bits, plane);
  return bits.end();
}

/** A segment with its marker and length (T.81 §B.1.1.4). */
export function segment(marker: number, content: Uint8Array): Buffer {
  const head = Buffer.from([0xff, marker, (content.length + 2) >> 8, (content.length + 2) & 255]);
  return Buffer.concat([head, content]);
}

export const START = Buffer.from([0xff, 0xd8]);
export const END = Buffer.from([0xff, 0xd9]);

/** What stands before the blocks: tables, size, and the restart interval. */
export function headOf(width: number, height: number): Buffer {
  const size = Buffer.alloc(4);
  size.writeUInt16BE(height, 0);
  size.writeUInt16BE(width, 2);
  return Buffer.concat([
    segment(0xdb, Buffer.from([0, ...new Array<number>(64).fill(QUANTUM)])),
    segment(0xc0, Buffer.from([8, ...size, 3, 1, 0x11, 0, 2, 0x11, 0, 3, 0x11, 0])),
    segment(0xc4, Buffer.from([0, ...DC.counts, ...DC.values])),
    segment(0xc4, Buffer.from([0x10, ...AC.counts, ...AC.values])),
    segment(0xdd, Buffer.from([0, 1])),
    segment(0xda, Buffer.from([3, 1, 0, 2, 0, 3, 0, 0, 63, 0])),
  ]);
}

/** The marker between a block and the next (T.81 §B.2.1). */
export const restart = (block: number): number => 0xd0 + (block & 7);
