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
  /** Of a root, the lowest id of a message that was asked for; 0 where none was. */
  private readonly first: number[] = [];

  /** Adds a message; gives the node by which its thread is asked for. */
  add({ messageId, inReplyTo, references }: ThreadLinks): number {
    const own = messageId === '' ? this.fresh() : this.nodeOf(messageId);
    for (const id of references) this.join(own, this.nodeOf(id));
    for (const id of inReplyTo.match(/<[^<>\s]+>/g) ?? []) this.join(own, this.nodeOf(id));
    return own;
  }

  /**
   * The thread of a message: the lowest id of those in it that were asked for so far, this one's among them. Final once all
   * were added and asked for.
   *
   * @param id above 0.
   */
  threadOf(node: number, id: number): number {
    const root = this.find(node);
    this.first[root] = lowest(this.first[root] as number, id);
    return this.first[root] as number;
  }

  private fresh(): number {
    this.first.push(0);
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
    if (a === b) return;
    const root = Math.min(a, b);
    this.parent[Math.max(a, b)] = root;
    this.first[root] = lowest(this.first[a] as number, this.first[b] as number);
  }
}

/** The lower of two ids, 0 being none. */
function lowest(one: number, other: number): number {
  return one === 0 || (other !== 0 && other < one) ? other : one;
}
