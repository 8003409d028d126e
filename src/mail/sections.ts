import type { Downloaded } from './server';

/** A section as it comes. */
export interface SectionOctets {
  /** Its place among those that were wanted. */
  of: number;
  /** Its octets; throws the problem of this section alone. */
  octets: AsyncIterable<Buffer>;
}

/** Sections one behind the other, each with its octets. What is not read of one is passed by before the next. */
export async function* bySection(downloads: AsyncIterable<Downloaded>): AsyncGenerator<SectionOctets> {
  const pieces = downloads[Symbol.asyncIterator]();
  try {
    for (let next = await pieces.next(); !next.done; next = await pieces.next()) {
      let piece = next.value;
      const { of } = piece;
      const advance = async () => {
        const after = await pieces.next();
        if (after.done) throw new Error('A section has no end.');
        piece = after.value;
      };
      async function* octets(): AsyncGenerator<Buffer> {
        for (; 'octets' in piece; await advance()) yield piece.octets;
        if ('problem' in piece) throw piece.problem;
      }
      yield { of, octets: octets() };
      while ('octets' in piece) await advance();
    }
  } finally {
    await pieces.return?.();
  }
}
