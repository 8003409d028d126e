import { printSequenceSet, type Ranges } from '../../../core/sets/ranges';
import type { SetLength } from '../wire/sets';
import type { FetchCommand } from './bulk';

/** Messages of the first command, and the fewest and most of any later one. */
const FIRST = 500;
const MIN_MESSAGES = 250;
const MAX_MESSAGES = 20_000;
/** How long the server should be busy with one command: it answers others, and we can stop, between two. */
const SECONDS_EACH = 2;

/** Octets a second below which a line is worth deflating: metadata shrinks to a fifth. */
const SLOW = 4_000_000;

/** How fast a connection was seen to be. */
export class FetchRate {
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
    return Math.max(MIN_MESSAGES, Math.min(MAX_MESSAGES, Math.round(this.messagesASecond * SECONDS_EACH)));
  }

  note(messages: number, octets: number, seconds: number): void {
    const spent = Math.max(seconds, 0.001);
    // The newest counts as much as all before.
    const mean = (before: number, now: number) => (before === 0 ? now : (before + now) / 2);
    this.messagesASecond = mean(this.messagesASecond, messages / spent);
    this.octetsASecond = mean(this.octetsASecond, octets / spent);
  }
}

/** A command that was sent and not answered. */
interface UnderWay {
  set: string;
  ranges: Ranges;
  messages: number;
}

/** Cuts a set into commands, each as large as the rate allows when it is its turn, and as long as the host takes. */
export class Windows {
  private readonly sent: UnderWay[] = [];
  private answeredAt = performance.now();
  /** The range that is next, and the first of its numbers that nobody asked for yet. */
  private at = 0;
  private from = 0;

  constructor(
    private uids: Ranges,
    private readonly items: string,
    private readonly rate: FetchRate,
    private readonly setLength: SetLength,
  ) {
    this.from = uids[0]?.[0] ?? 0;
  }

  next(): FetchCommand | undefined {
    const parts: string[] = [];
    const ranges: [number, number][] = [];
    let octets = 0;
    let messages = 0;
    for (const { window } = this.rate; messages < window; ) {
      const range = this.uids[this.at];
      if (!range) break;
      const last = Math.min(range[1], this.from + window - messages - 1);
      const part = printSequenceSet([[this.from, last]]);
      if (parts.length > 0 && octets + part.length + 1 > this.setLength.octets) break;
      parts.push(part);
      ranges.push([this.from, last]);
      octets += part.length + 1;
      messages += last - this.from + 1;
      if (last < range[1]) this.from = last + 1;
      else this.from = this.uids[++this.at]?.[0] ?? 0;
    }
    if (messages === 0) return undefined;
    if (this.sent.length === 0) this.answeredAt = performance.now();
    const set = parts.join(',');
    this.sent.push({ set, ranges, messages });
    return { text: `${set} ${this.items}`, messages };
  }

  answered(octets: number): void {
    const now = performance.now();
    this.rate.note(this.sent.shift()?.messages ?? 0, octets, (now - this.answeredAt) / 1000);
    this.answeredAt = now;
  }

  /** The oldest command that is under way was answered BAD. Where its set can be cut, it is asked for again, in shorter commands. */
  refused(): boolean {
    const [first] = this.sent;
    if (!first || !this.setLength.shorten(first.set)) return false;
    this.sent.shift();
    const [range] = this.uids.slice(this.at, this.at + 1);
    const rest: Ranges = range ? [[this.from, range[1]], ...this.uids.slice(this.at + 1)] : [];
    this.uids = [...first.ranges, ...rest];
    this.at = 0;
    this.from = this.uids[0]?.[0] ?? 0;
    return true;
  }
}
