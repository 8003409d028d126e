import type { Scratch } from '../../archive/scratch';

/** The octets of a file, and what they are. */
export interface Octets {
  scratch: Scratch;
  bytes: number;
  /** In hexadecimal digits. */
  sha256: string;
}
