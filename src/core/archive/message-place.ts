/** Where a message is in a bag. */
export interface MessagePlace {
  /** Of its file, below `data/`. */
  path: string;
  /** In an mbox file where its line begins, and the octets that it takes there; null of a message that is a file by itself. */
  at: number | null;
  length: number | null;
  /** Octets of the message itself. */
  size: number;
}
