import type { EmailAddress } from '../mailbox/email-address';
import { FLAG_BITS } from '../mailbox/flags';

/** What is known of a message before its structure is read. */
export interface OutlinedMessage {
  /** Octets. */
  size: number;
  received: Date;
  /** Bits of ../mailbox/flags. */
  flags: number;
  from: EmailAddress | null;
}

/** An author in a first ranking; times in milliseconds. */
export interface RankedAuthor {
  /** '' where the message names none. */
  address: string;
  name: string;
  messages: number;
  bytes: number;
  unseen: number;
  first: number;
  last: number;
}

/** Messages of at least so many octets, and less than the next class. */
export interface SizeClass {
  from: number;
  messages: number;
  bytes: number;
}

const MIB = 2 ** 20;
const CLASSES = [0, 128 * 1024, MIB, 5 * MIB, 10 * MIB, 25 * MIB];

/** Sums messages by author and by size as their outlines come in, in memory that grows with the authors only. */
export class FirstRanking {
  messages = 0;
  bytes = 0;
  readonly sizes: SizeClass[] = CLASSES.map((from) => ({ from, messages: 0, bytes: 0 }));
  private readonly byAddress = new Map<string, RankedAuthor>();

  add({ size, received, flags, from }: OutlinedMessage): void {
    const at = received.getTime();
    const unseen = (flags & FLAG_BITS.seen) === 0 ? 1 : 0;
    this.messages++;
    this.bytes += size;
    const sizeClass = this.sizes.findLast((each) => size >= each.from) as SizeClass;
    sizeClass.messages++;
    sizeClass.bytes += size;
    const address = from?.address ?? '';
    const author = this.byAddress.get(address);
    if (!author) {
      const name = from?.name ?? '';
      this.byAddress.set(address, { address, name, messages: 1, bytes: size, unseen, first: at, last: at });
      return;
    }
    author.messages++;
    author.bytes += size;
    author.unseen += unseen;
    if (author.name === '') author.name = from?.name ?? '';
    if (at < author.first) author.first = at;
    if (at > author.last) author.last = at;
  }

  /** Those with the most octets first. */
  authors(): RankedAuthor[] {
    return [...this.byAddress.values()].sort((a, b) => b.bytes - a.bytes);
  }
}
