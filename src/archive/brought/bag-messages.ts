import { createHash } from 'node:crypto';
import * as v from 'valibot';
import { readFlags } from '../../core/mailbox/flags';
import { messageIn } from '../mbox-reader';
import type { Region } from '../region';
import { linesOf } from './lines';
import type { BroughtItem } from './message';
import { CutOff, Unreadable } from './unreadable';

/** Parts of an index that is read in any order. */
const MOST_PARTS = 100_000;

const place = v.pipe(v.number(), v.safeInteger(), v.minValue(0));

/** What the index of a bag of mail says of a message (core/archive). */
const Line = v.object({
  path: v.string(),
  offset: place,
  length: place,
  size: place,
  sha256: v.string(),
  folder: v.string(),
  received: v.pipe(v.string(), v.isoTimestamp()),
  flags: v.array(v.string()),
  keywords: v.array(v.string()),
});
type Line = v.InferOutput<typeof Line>;

/** The index of a bag of ours, which says of every message what an mbox file does not. */
export class BagIndex {
  private constructor(
    private readonly index: Region,
    /** By the path of an mbox file, where its lines are. */
    private readonly lines: ReadonlyMap<string, { from: number; to: number }[]>,
  ) {}

  static async of(index: Region): Promise<BagIndex> {
    const lines = new Map<string, { from: number; to: number }[]>();
    let at = 0;
    let parts = 0;
    let last: { path: string; to: number } | undefined;
    for await (const { text, next } of linesOf(index)) {
      const path = lineOf(text)?.path;
      if (path !== undefined) {
        const own = lines.get(path) ?? [];
        const open = own.at(-1);
        if (last?.path === path && last.to === at && open) open.to = next;
        else {
          if (++parts > MOST_PARTS) throw new Unreadable('damaged-archive', 'The index of the bag is in no order.');
          own.push({ from: at, to: next });
        }
        lines.set(path, own);
        last = { path, to: next };
      }
      at = next;
    }
    return new BagIndex(index, lines);
  }

  has(path: string): boolean {
    return this.lines.has(path);
  }

  /** The messages of an mbox file of the bag, each as it was saved. */
  async *messages(path: string, mbox: Region): AsyncGenerator<BroughtItem> {
    for (const { from, to } of this.lines.get(path) ?? [])
      for await (const { text } of linesOf(this.index, from, to)) {
        const line = lineOf(text);
        if (line)
          yield { message: messageOf(line, mbox), done: mbox.size === 0 ? 1 : Math.min(1, line.offset / mbox.size) };
      }
  }
}

function messageOf({ offset, length, size, sha256, folder, received, flags, keywords }: Line, mbox: Region) {
  const read = readFlags([...flags, ...keywords]);
  return {
    folder,
    received: new Date(received),
    flags: read.bits,
    keywords: read.keywords,
    size,
    async *read() {
      const hash = createHash('sha256');
      for await (const piece of messageIn(mbox.read(offset, offset + length), size)) {
        hash.update(piece);
        yield piece;
      }
      if (hash.digest('hex') !== sha256) throw new CutOff();
    },
  };
}

/** A line of an index; undefined where it is none of a message in an mbox file. */
function lineOf(text: string): Line | undefined {
  try {
    const read = v.safeParse(Line, JSON.parse(text));
    return read.success ? read.output : undefined;
  } catch {
    return undefined;
  }
}
