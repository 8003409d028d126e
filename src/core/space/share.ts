/** What a file space and a mail server say of their quotas, in octets; null where they say nothing. */
export interface QuotaFigures {
  space: { used: number | null; available: number | null };
  mail: { used: number | null; limit: number | null };
}

/** RFC 9208 §5.1 counts STORAGE in units of 1024 octets. */
export const QUOTA_UNIT = 1024;

/**
 * Whether files count against the limit of the mailbox: the file space names the same limit (RFC 4331: used and available together),
 * or, where nothing is available any more, the same use. Null where too little is said.
 */
export function sharesQuota({ space, mail }: QuotaFigures): boolean | null {
  if (space.used === null || space.available === null || mail.limit === null) return null;
  const isNear = (a: number, b: number) => Math.abs(a - b) <= QUOTA_UNIT;
  if (isNear(space.used + space.available, mail.limit)) return true;
  return space.available === 0 && mail.used !== null && mail.used >= mail.limit && isNear(space.used, mail.used);
}

/**
 * What is in use and neither mail nor one of the files that were found; below zero where the host counts less than there is.
 *
 * @param counted octets of mail and files.
 * @param exact what the file space says is in use: to the octet, where the mail server counts in larger units. It is taken where both
 *   say the same.
 */
export function unexplained(
  used: number,
  counted: number,
  exact: number | null,
): { bytes: number; toTheOctet: boolean } {
  const toTheOctet = exact !== null && Math.abs(used - exact) <= QUOTA_UNIT;
  return { bytes: (toTheOctet ? exact : used) - counted, toTheOctet };
}

/**
 * How many octets may be put into a file space that has some left. Where mail has to come into the same room, or may have to, half of it stays
 * free.
 */
export function roomToFill(available: number, counts: boolean | null): number {
  return counts === false ? available : Math.floor(available / 2);
}
