import { createHash, type Hash } from 'node:crypto';
import { constants } from 'node:fs';
import { type FileHandle, open } from 'node:fs/promises';
import { quoted, SEPARATOR } from '../core/archive/mbox';
import { createFile, orDiskFull } from './disk';

/** Octets of a message that are held before they are written. */
const WRITTEN_AT_ONCE = 1024 * 1024;
const LF = 0x0a;

/** A message as it was added to an mbox file. */
export interface AddedMessage {
  /** Where its line begins, in octets, and how many octets it takes there, from its line to what ends it. */
  at: number;
  length: number;
  /** Octets of the message itself, and their SHA-256 in hexadecimal. */
  size: number;
  sha256: string;
}

/**
 * An mbox file (RFC 4155) while it is written. Messages are only ever added behind the others; small ones are written together,
 * at the latest when the disk is to keep them.
 */
export class MboxFile {
  private held: Uint8Array[] = [];
  private octetsHeld = 0;
  /** Octets that were written, or are being. */
  private written: number;
  /** What is being written. Once that failed nothing more is written, and whoever asks hears of it. */
  private writing: Promise<void> = Promise.resolve();
  private flushing: Promise<void> = Promise.resolve();
  private nextFlush: Promise<void> | undefined;
  /** The last of them, where no more is added. */
  private closed: Promise<void> | undefined;
  /** Of what was written; undefined once something was taken back. */
  private hash: Hash | undefined = createHash('sha256');

  private constructor(
    private readonly file: FileHandle,
    /** Octets that it has, those included that are still to be written. */
    public end: number,
  ) {
    this.written = end;
  }

  /** Makes a new one. @throws DiskFull */
  static async create(path: string): Promise<MboxFile> {
    return new MboxFile(await createFile(path), 0);
  }

  /**
   * Adds a message as its octets come. Where that fails nothing of it stays.
   *
   * @param line the one before it (core/archive/mbox).
   * @throws DiskFull, and what the octets throw.
   */
  async add(line: string, octets: AsyncIterable<Uint8Array>): Promise<AddedMessage> {
    const at = this.end;
    const hash = createHash('sha256');
    let size = 0;
    let last: number | undefined;
    async function* counted() {
      for await (const piece of octets) {
        hash.update(piece);
        size += piece.length;
        last = piece.at(-1) ?? last;
        yield piece;
      }
    }
    try {
      await this.append(Buffer.from(line, 'latin1'));
      for await (const piece of quoted(counted())) await this.append(piece);
      // A message without a line end gets one, so that the empty line behind it is one.
      await this.append(Buffer.from((last === LF ? '' : '\n') + SEPARATOR));
    } catch (error) {
      await this.takeBack(at);
      throw error;
    }
    return { at, length: this.end - at, size, sha256: hash.digest('hex') };
  }

  private async append(octets: Uint8Array): Promise<void> {
    this.held.push(octets);
    this.octetsHeld += octets.length;
    this.end += octets.length;
    if (this.octetsHeld >= WRITTEN_AT_ONCE) await this.writeHeld();
  }

  /** Takes all from a place on away again. */
  async takeBack(to: number): Promise<void> {
    await this.writeHeld().catch(() => undefined);
    this.hash = undefined;
    await this.file.truncate(to);
    this.end = to;
    this.written = to;
  }

  private writeHeld(): Promise<void> {
    const { held, written } = this;
    this.held = [];
    this.written += this.octetsHeld;
    this.octetsHeld = 0;
    this.writing = this.writing.then(() => (held.length > 0 ? this.write(Buffer.concat(held), written) : undefined));
    // Whoever flushes hears of a failure.
    this.writing.catch(() => undefined);
    return this.writing;
  }

  private async write(octets: Uint8Array, at: number): Promise<void> {
    await orDiskFull(async () => {
      for (let done = 0; done < octets.length; )
        done += (await this.file.write(octets, done, octets.length - done, at + done)).bytesWritten;
    });
    this.hash?.update(octets);
  }

  /** Resolves when the disk keeps all that was added before. Who asks while it is busy waits for one turn with the others. */
  flush(): Promise<void> {
    if (this.closed) return this.closed;
    this.nextFlush ??= this.flushing
      .catch(() => undefined)
      .then(() => {
        this.nextFlush = undefined;
        this.flushing = this.writeHeld().then(() => orDiskFull(() => this.file.datasync()));
        return this.flushing;
      });
    return this.nextFlush;
  }

  /**
   * Ends when the disk keeps all of it, or does not: whoever asks for `flush`, now or later, hears of that.
   *
   * @returns SHA-256 of the file in hexadecimal, as it was written; undefined where it has to be read to tell.
   */
  async close(): Promise<string | undefined> {
    const last = this.flush();
    this.closed = last;
    const isKept = await last.then(
      () => true,
      () => false,
    );
    await this.file.close();
    return isKept ? this.hash?.digest('hex') : undefined;
  }
}

/**
 * Writes a message where it was in an mbox file, from its own octets; what is before and behind it is not touched. Killed in
 * between, it is as damaged as before.
 *
 * @throws DiskFull, and where it would not take as many octets there as it did.
 */
export async function putMessage(
  path: string,
  at: number,
  length: number,
  line: string,
  read: () => AsyncIterable<Uint8Array>,
): Promise<void> {
  const { O_RDWR, O_CREAT, O_NOFOLLOW } = constants;
  const file = await open(path, O_RDWR | O_CREAT | O_NOFOLLOW, 0o600);
  try {
    let end = at;
    let last: number | undefined;
    const write = async (octets: Uint8Array) => {
      if (end + octets.length > at + length)
        throw new Error(`The message at ${at} of ${path} is longer than its place.`);
      for (let done = 0; done < octets.length; ) {
        const { bytesWritten } = await orDiskFull(() => file.write(octets, done, octets.length - done, end));
        done += bytesWritten;
        end += bytesWritten;
      }
    };
    async function* counted() {
      for await (const piece of read()) {
        last = piece.at(-1) ?? last;
        yield piece;
      }
    }
    await write(Buffer.from(line, 'latin1'));
    for await (const piece of quoted(counted())) await write(piece);
    await write(Buffer.from((last === LF ? '' : '\n') + SEPARATOR));
    if (end !== at + length) throw new Error(`The message at ${at} of ${path} is shorter than its place.`);
    await orDiskFull(() => file.datasync());
  } finally {
    await file.close();
  }
}
