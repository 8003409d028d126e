import { chunksOf, countOf, printSequenceSet, type Ranges } from '../../../core/sets/ranges';

/** A set on the command line is cut so that no command grows beyond what servers take (RFC 7162 §4 advises 8,192 octets). */
const LONGEST_SET = 7_000;

/** Messages of the first command, and the fewest and most of any later one. */
const FIRST = 500;
const FEWEST = 250;
const MOST = 20_000;
/** How long the server should be busy with one command: it answers others, and we can stop, between two. */
const SECONDS_EACH = 2;

/** Octets a second below which a line is worth deflating: metadata shrinks to a fifth. */
const SLOW = 4_000_000;

/** How fast a connection was seen to be. */
export class Pace {
  private messagesASecond = 0;
  private octetsASecond = 0;

  get isKnown(): boolean {
    return this.messagesASecond > 0;
  }

  get isSlow(): boolean {
    return this.isKnown && this.octetsASecond < SLOW;
  }

  /** Messages that the next command should ask for. */
  get window(): number {
    if (!this.isKnown) return FIRST;
    return Math.max(FEWEST, Math.min(MOST, Math.round(this.messagesASecond * SECONDS_EACH)));
  }

  note(messages: number, octets: number, seconds: number): void {
    const spent = Math.max(seconds, 0.001);
    // The newest counts as much as all before.
    const mean = (before: number, now: number) => (before === 0 ? now : (before + now) / 2);
    this.messagesASecond = mean(this.messagesASecond, messages / spent);
    this.octetsASecond = mean(this.octetsASecond, octets / spent);
  }
}

/** Cuts a set into commands, each as large as the pace allows when it is its turn. */
export class Windows {
  private readonly sent: number[] = [];
  private answeredAt = performance.now();
  private rest: Ranges;

  constructor(
    uids: Ranges,
    private readonly items: string,
    private readonly pace: Pace,
  ) {
    this.rest = uids;
  }

  next(): string | undefined {
    const head = chunksOf(this.rest, this.pace.window).next().value;
    if (!head) return undefined;
    const [set, ranges] = printed(head);
    const messages = countOf(head.slice(0, ranges));
    this.rest = without(this.rest, messages);
    if (this.sent.length === 0) this.answeredAt = performance.now();
    this.sent.push(messages);
    return `${set} ${this.items}`;
  }

  answered(octets: number): void {
    const now = performance.now();
    this.pace.note(this.sent.shift() ?? 0, octets, (now - this.answeredAt) / 1000);
    this.answeredAt = now;
  }
}

/** Prints a set as sequence-sets of bounded length. */
export function* cut(ranges: Ranges): Generator<string> {
  for (let rest = ranges; rest.length > 0; ) {
    const [set, taken] = printed(rest);
    yield set;
    rest = rest.slice(taken);
  }
}

/** Prints as many ranges of a set as a command may name; gives how many they are. */
function printed(ranges: Ranges): [set: string, taken: number] {
  let text = '';
  let taken = 0;
  for (const range of ranges) {
    const next = printSequenceSet([range]);
    if (text !== '' && text.length + next.length > LONGEST_SET) break;
    text += text === '' ? next : `,${next}`;
    taken++;
  }
  return [text, taken];
}

/** A set without its first numbers. */
function without(ranges: Ranges, count: number): Ranges {
  let left = count;
  for (const [index, [first, last]] of ranges.entries()) {
    const length = last - first + 1;
    if (length > left) return [[first + left, last], ...ranges.slice(index + 1)];
    left -= length;
  }
  return [];
}
