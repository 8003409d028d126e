import { LINE_LENGTHS, octetsAtMost } from './file-candidates';

/** Octets by which what base64 tells of a file may be too many: its last group holds one, two or three (RFC 4648 §4). */
const LESS = [0, 1, 2];

/** Files of messages, a row each. */
export interface MailFiles {
  /** Encoded octets. */
  size: Float64Array;
  /** 1 where it is in base64. */
  isBase64: Int32Array;
}

/**
 * Which files of messages may also lie in a file space, by how many octets they have; and which there may be they. Of other encodings than
 * base64 the encoded octets stand for the decoded ones.
 *
 * @param space octets of the files there, a row each.
 * @returns rows of both, rising.
 */
export function doubledCandidates(
  { size, isBase64 }: MailFiles,
  space: Float64Array,
): { mail: number[]; space: number[] } {
  const there = new Set(space);
  const met = new Set<number>();
  const mail: number[] = [];
  for (const [row, encoded] of size.entries()) {
    let isCandidate = false;
    for (const octets of isBase64[row] === 1 ? lengthsOf(encoded) : [encoded]) {
      if (!there.has(octets)) continue;
      met.add(octets);
      isCandidate = true;
    }
    if (isCandidate) mail.push(row);
  }
  return { mail, space: [...space.keys()].filter((row) => met.has(space[row] as number)) };
}

/** What a file in base64 may have of octets, by the length of its lines. */
function* lengthsOf(encoded: number): Generator<number> {
  for (const lineLength of LINE_LENGTHS) {
    const most = octetsAtMost(encoded, lineLength);
    for (const less of LESS) yield most - less;
  }
}
