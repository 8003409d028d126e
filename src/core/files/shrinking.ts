/** How pictures are made smaller. */
export interface Shrinking {
  /** Points of the longer side, at most. */
  longest: ShrunkLength;
  /** Whether what a picture says of the place where it was taken stays in it. */
  place: 'keep' | 'remove';
}

export const SHRUNK_LENGTHS = [1600, 2560] as const;
export type ShrunkLength = (typeof SHRUNK_LENGTHS)[number];

/**
 * Octets in base64 of a photograph of that length, about. Common practice with JPEG of a middle quality, no source: photographs
 * differ by more than this rule says.
 */
const EXPECTED: Record<ShrunkLength, number> = { 1600: 400_000, 2560: 900_000 };

/** A smaller picture is used only where it has at most so much of the octets. */
export const MOST_LEFT = 0.7;

/** About how many octets shrinking a picture wins. @param size encoded octets. */
export function expectedGain(size: number, longest: ShrunkLength): number {
  const after = EXPECTED[longest];
  return after <= size * MOST_LEFT ? size - after : 0;
}

/** About how many octets shrinking a picture wins that is not in base64 (RFC 2045 §6.8: lines of 76 characters hold 57 octets). */
export function expectedGainOfFile(size: number, longest: ShrunkLength): number {
  const after = Math.round((EXPECTED[longest] * 57) / 78);
  return after <= size * MOST_LEFT ? size - after : 0;
}

/** What `expectedGain` says as SQL, of an expression for the size and one for the length. */
export function expectedGainSql(size: string, longest: string): string {
  const cases = SHRUNK_LENGTHS.map(
    (length) =>
      `when ${longest} = ${length} and ${EXPECTED[length]} <= ${size} * ${MOST_LEFT} then ${size} - ${EXPECTED[length]}`,
  );
  return `case ${cases.join(' ')} else 0 end`;
}
