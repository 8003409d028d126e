import { Identifiers } from './identifiers';

/** What binds a message into a thread (RFC 5256, REFERENCES, steps 1 and 2). */
export interface ThreadLinks {
  messageId: string;
  inReplyTo: string;
  /** Message-IDs, oldest first. */
  references: readonly string[];
}

/**
 * Joins messages into threads by the identifiers that they name: two messages are in one thread where one names the
 * other, or both name a third, be it here or not. Subjects are not compared (RFC 5256's step 5), since equal subjects of
 * notices would make one thread of thousands of letters.
 *
 * Fed message by message; no identifier is kept as text.
 */
export class Threads {
  private readonly identifiers = new Identifiers();
  /** The node of each identifier, by its number. */
  private readonly nodes: number[] = [];
  private readonly parent: number[] = [];
  private readonly owner: number[] = [];

  /** Adds the next message; its number is how many were added before. */
  add({ messageId, inReplyTo, references }: ThreadLinks): void {
    const own = messageId === '' ? this.fresh() : this.nodeOf(messageId);
    this.owner.push(own);
    for (const id of references) this.join(own, this.nodeOf(id));
    for (const id of inReplyTo.match(/<[^<>\s]+>/g) ?? []) this.join(own, this.nodeOf(id));
  }

  /** For each message the number of the first one of its thread. */
  roots(): Uint32Array {
    // One more than the number of the first message of a root.
    const firstOf = new Uint32Array(this.parent.length);
    return Uint32Array.from(this.owner, (node, message) => {
      const root = this.find(node);
      firstOf[root] ||= message + 1;
      return (firstOf[root] as number) - 1;
    });
  }

  private fresh(): number {
    this.parent.push(this.parent.length);
    return this.parent.length - 1;
  }

  private nodeOf(id: string): number {
    const number = this.identifiers.numberOf(id);
    if (number === this.nodes.length) this.nodes.push(this.fresh());
    return this.nodes[number] as number;
  }

  private find(node: number): number {
    let at = node;
    for (let above = this.parent[at] as number; above !== at; above = this.parent[at] as number) {
      // Path halving: each look makes the next one shorter.
      this.parent[at] = this.parent[above] as number;
      at = this.parent[at] as number;
    }
    return at;
  }

  private join(one: number, other: number): void {
    const [a, b] = [this.find(one), this.find(other)];
    if (a !== b) this.parent[Math.max(a, b)] = Math.min(a, b);
  }
}
