import type { FileHandle } from 'node:fs/promises';
import { Readable } from 'node:stream';
import { createGunzip } from 'node:zlib';
import { withMailLineEnds } from '../../core/brought/line-ends';
import type { Quoting } from '../../core/brought/quoting';
import { Region } from '../region';
import { containerMessages } from './container-messages';
import { isMbox } from './mbox';
import { mboxMessages } from './mbox-messages';
import type { BroughtItem } from './message';
import { isTar, Tar } from './tar';
import { mostUnpacked, unpacked } from './unpacked';
import { CutOff, Unreadable } from './unreadable';
import { isZip, Zip } from './zip';

/** What a file that is brought in is. */
export type BroughtFormat = 'mbox' | 'tar' | 'zip' | 'message';

/** Octets by which that is told: a header of a tar archive. */
const BEGINNING = 1024;
/** A line that begins a header: a field (RFC 5322 §2.2). */
const FIELD = /^[!-9;-~]{1,200}[ \t]*:/;

/** A file that was saved elsewhere, and the mail in it. */
export class BroughtFile {
  /** How lines of its mbox files were told to be quoted; of several the last that had any. */
  quoting: Quoting | undefined;

  private constructor(
    readonly format: BroughtFormat,
    private readonly make: (found: (quoting: Quoting) => void) => AsyncGenerator<BroughtItem>,
    private readonly files: readonly FileHandle[],
  ) {}

  /**
   * Tells what a file is by what it begins with, and opens it.
   *
   * @param scratch a folder for what has to be unpacked to be read.
   * @param asked how an mbox file is quoted, where a person knows.
   * @param most octets that a packed file may unpack to.
   * @throws Unreadable where it holds no mail that can be read, and DiskFull.
   */
  static async open(
    file: FileHandle,
    size: number,
    scratch: string,
    asked?: Quoting,
    most = mostUnpacked(size),
  ): Promise<BroughtFile> {
    const region = new Region(file, 0, size);
    const beginning = await region.octets(0, BEGINNING);
    if (beginning[0] !== 0x1f || beginning[1] !== 0x8b)
      return BroughtFile.plain(file, region, beginning, scratch, asked);
    // gzip (RFC 1952): what it holds is read in any order.
    const { file: inner, size: innerSize } = await unpacked(scratch, gunzipped(region, most));
    const whole = new Region(inner, 0, innerSize);
    const opened = await BroughtFile.plain(inner, whole, await whole.octets(0, BEGINNING), scratch, asked).catch(
      async (error: unknown) => {
        await inner.close();
        throw error;
      },
    );
    return new BroughtFile(opened.format, opened.make, [inner]);
  }

  private static async plain(
    file: FileHandle,
    region: Region,
    beginning: Buffer,
    scratch: string,
    asked: Quoting | undefined,
  ): Promise<BroughtFile> {
    if (isZip(beginning)) {
      const zip = await Zip.open(file, region.size, scratch);
      return new BroughtFile('zip', (found) => containerMessages(zip, asked, found), []);
    }
    if (isMbox(beginning)) return new BroughtFile('mbox', (found) => mboxMessages(region, '', asked, found), []);
    if (isTar(beginning))
      return new BroughtFile('tar', (found) => containerMessages(new Tar(region), asked, found), []);
    const line = beginning.toString('latin1').split('\n', 1)[0] ?? '';
    if (!FIELD.test(line))
      throw new Unreadable(
        'not-mail',
        'This is no file of mail that Tamsel reads: an mbox file, a Maildir as tar or ZIP, a message (.eml), or messages in a ZIP archive.',
      );
    return new BroughtFile('message', () => oneMessage(region), []);
  }

  /** The mail in it, always in the same order. */
  items(): AsyncGenerator<BroughtItem> {
    return this.make((quoting) => {
      if (quoting !== 'none' || this.quoting === undefined) this.quoting = quoting;
    });
  }

  async close(): Promise<void> {
    for (const file of this.files) await file.close();
  }
}

async function* oneMessage(region: Region): AsyncGenerator<BroughtItem> {
  const read = () => withMailLineEnds(region.read());
  yield { message: { folder: '', received: null, flags: null, keywords: [], size: region.size, read }, done: 1 };
}

async function* gunzipped(region: Region, most: number): AsyncGenerator<Buffer> {
  const gunzip = createGunzip();
  Readable.from(region.read())
    .on('error', (error) => gunzip.destroy(error))
    .pipe(gunzip);
  let octets = 0;
  try {
    for await (const piece of gunzip) {
      octets += (piece as Buffer).length;
      if (octets > most)
        throw new Unreadable(
          'unpacks-to-too-much',
          `The file has ${region.size} octets and unpacks to more than ${octets}.`,
        );
      yield piece as Buffer;
    }
  } catch (error) {
    if (error instanceof Unreadable) throw error;
    throw new CutOff();
  } finally {
    gunzip.destroy();
  }
}
