import { createHash, timingSafeEqual } from 'node:crypto';

/** Whether two secrets are the same; takes as long wherever they differ. */
export function isSameSecret(one: string, other: string): boolean {
  const digest = (text: string) => createHash('sha256').update(text).digest();
  return timingSafeEqual(digest(one), digest(other));
}
