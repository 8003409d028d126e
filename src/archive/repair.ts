import { createHash } from 'node:crypto';
import type { MessagePlace } from '../core/archive/message-place';
import type { Bag } from './bag';
import type { Scratch } from './scratch';

/**
 * Gives a damaged message or file of a bag its octets again, where these are what was saved.
 *
 * @param scratch room for the octets, until they are known to be right; closed here.
 * @param line the one before a message in an mbox file (core/archive/mbox).
 * @returns whether they are what was saved; where not, nothing is changed.
 * @throws DiskFull, and what the octets throw.
 */
export async function repairFile(
  bag: Bag,
  scratch: Scratch,
  place: MessagePlace & { sha256: string },
  line: string,
  octets: AsyncIterable<Uint8Array>,
): Promise<boolean> {
  try {
    const hash = createHash('sha256');
    let size = 0;
    async function* counted() {
      for await (const piece of octets) {
        hash.update(piece);
        size += piece.length;
        if (size > place.size) return;
        yield piece;
      }
    }
    await scratch.write(counted());
    if (size !== place.size || hash.digest('hex') !== place.sha256) return false;
    await bag.put(place, line, () => scratch.read(0, size));
    return true;
  } finally {
    await scratch.close();
  }
}
