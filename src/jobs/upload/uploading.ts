import { createHash } from 'node:crypto';
import type { DavClient } from '../../dav/client';
import { decoded } from '../../mail/mime/decoded';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { filesAtPlacements, type PendingFile } from '../../store/archive/bags';
import type { Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { saveFileDigests } from '../../store/index/repeated-files';
import { saveSpaceDigest, unreadOfSize } from '../../store/space/doubled';
import { noteUploaded } from '../../store/space/listing';
import type { FileSpace } from '../../store/space/spaces';
import {
  type NotPutReason,
  noteNotPut,
  notePut,
  noteSent,
  pathsOfUpload,
  pendingOfUpload,
  type SentUpload,
  type SpaceUpload,
  sentOfUpload,
  updateUpload,
  wantedOfUpload,
} from '../../store/space/uploads';
import type { Turn, WorkContext } from '../context';
import type { Fence } from '../fence';
import { hashOf } from '../repeats/spaces';
import { FileFolders } from '../run/files/folders';
import { SpaceCopies } from '../run/space-copies';
import { counted, Fetching } from '../save/fetching';
import { Paths } from '../save/paths';
import { memberOf } from '../space/member';
import { Stopped } from '../stopped';
import type { Octets } from './octets';
import { Placing } from './placing';

/** Files that are looked up at a time. */
const PAGE = 250;
/** Files that are put there at a time; so many lie in the scratch. */
const AT_A_TIME = 4;
/** Files of the same size that lie there and are read for one that is put there. */
const MOST_READ = 4;
/** Milliseconds between two announcements of what is done, and between two looks at what the person wants. */
const ANNOUNCED_MS = 400;
const HEEDED_MS = 200;

/** Fetches the files of an upload from the mail server, and has each put into the file space while the next ones come. */
export class Uploading {
  private readonly placing: Placing;
  private readonly copies: SpaceCopies;
  private readonly paths: Paths;
  private readonly underWay = new Set<Promise<void>>();
  /** By their digests, the files that are being put there: another one with the same octets waits for it. */
  private readonly byDigest = new Map<string, Promise<void>>();
  private failure: { error: unknown } | undefined;
  /** What was sent before the work was interrupted. */
  private sent = new Map<number, SentUpload>();
  /** Octets of the smallest file for which the server had no room: what is as large has none either. */
  private refused = Number.POSITIVE_INFINITY;
  private heededAt = 0;
  private announcedAt = 0;

  /** @param room octets that may be put there; undefined where its server does not say. */
  constructor(
    private readonly context: WorkContext,
    private readonly fenced: Fence,
    private readonly account: Account,
    private readonly turn: Turn,
    private readonly asked: SpaceUpload,
    private readonly space: FileSpace,
    private readonly client: DavClient,
    private room: number | undefined,
  ) {
    const { database } = context;
    this.copies = new SpaceCopies(context, account);
    this.paths = new Paths(account.settings.timeZone, (paths) => pathsOfUpload(database, account.id, asked.id, paths));
    this.placing = new Placing(client, new FileFolders(client, account.id, space, fenced), asked.folder, {
      sending: ({ file, size: encoded }, { bytes, sha256 }, path, key) =>
        fenced((db) => noteSent(db, account.id, asked.id, { file, encoded, path, key, bytes, sha256 })),
      pathFor: (file) => this.paths.pathFor(file),
    });
  }

  /** @throws Stopped where somebody wants that; what is under way has ended by then. */
  async carryOut(server: MailServer, another: () => Promise<MailServer>): Promise<void> {
    const { database } = this.context;
    const { id: account } = this.account;
    await this.write((db) => updateUpload(db, account, this.asked.id, { state: 'running', problem: null }));
    this.sent = new Map((await sentOfUpload(database, account, this.asked.id)).map((one) => [one.file, one]));
    const fetching = new Fetching(database, account, server, another, {
      heed: () => this.heed(),
      take: (file, octets) => this.take(file, octets),
      leave: (file, reason) => this.leave(file, reason),
    });
    try {
      await this.heed();
      // Once through is enough, unless other programs moved messages meanwhile.
      while ((await this.fetchPending(fetching)) > 0);
    } finally {
      await Promise.all(this.underWay);
      await fetching.close();
      this.copies.close();
    }
    if (this.failure) throw this.failure.error;
  }

  /** @returns how many files that was. */
  private async fetchPending(fetching: Fetching): Promise<number> {
    const { database } = this.context;
    const { files, placements } = await pendingOfUpload(database, this.account.id, this.asked.id);
    let count = 0;
    for (let at = 0; at < files.length; at += PAGE) {
      const page = [files.slice(at, at + PAGE), placements.slice(at, at + PAGE)] as const;
      const pending = await filesAtPlacements(database, this.account.id, ...page);
      // All that were given paths are written down by now.
      this.paths.forget();
      await this.paths.lookUp(pending);
      await fetching.fetch(await this.withRoom(pending));
      await Promise.all(this.underWay);
      if (this.failure) throw this.failure.error;
      count += pending.length;
    }
    return count;
  }

  /** Those that may have room; the others are left, and not fetched. */
  private async withRoom(files: readonly PendingFile[]): Promise<PendingFile[]> {
    const room = Math.min(this.room ?? Number.POSITIVE_INFINITY, this.refused - 1);
    const hasRoom = (file: PendingFile) => this.sent.has(file.file) || leastOctets(file) <= room;
    for (const file of files) if (!hasRoom(file)) await this.leave(file, 'no-room');
    return files.filter(hasRoom);
  }

  private async heed(): Promise<void> {
    if (Date.now() - this.heededAt < HEEDED_MS) return;
    const wanted = await wantedOfUpload(this.context.database, this.account.id, this.asked.id);
    this.heededAt = Date.now();
    if (wanted) throw new Stopped(wanted);
  }

  /** Reads a file to its end; it is put there while the next one is read. */
  private async take(file: PendingFile, octets: AsyncIterable<Buffer>): Promise<void> {
    while (this.underWay.size >= AT_A_TIME) await Promise.race(this.underWay);
    if (this.failure) throw this.failure.error;
    const scratch = this.context.archive.scratch();
    const fetched = { encoded: 0 };
    const hash = createHash('sha256');
    let bytes = 0;
    async function* read() {
      for await (const piece of decoded(counted(octets, fetched), file.encoding)) {
        hash.update(piece);
        bytes += piece.length;
        yield piece;
      }
    }
    try {
      await scratch.write(read());
    } catch (error) {
      await scratch.close();
      throw error;
    }
    if (fetched.encoded !== file.size) {
      await scratch.close();
      return this.leave(file, 'differs');
    }
    const placed = this.place(file, { scratch, bytes, sha256: hash.digest('hex') })
      .catch((error: unknown) => {
        this.failure ??= { error };
      })
      .finally(() => scratch.close())
      .finally(() => this.underWay.delete(placed));
    this.underWay.add(placed);
  }

  /** Puts a file there after any with the same octets. */
  private async place(file: PendingFile, octets: Octets): Promise<void> {
    const before = this.byDigest.get(octets.sha256) ?? Promise.resolve();
    const placed = before.then(() => this.placeOne(file, octets));
    const settled = placed.catch(() => undefined);
    this.byDigest.set(octets.sha256, settled);
    try {
      await placed;
    } finally {
      if (this.byDigest.get(octets.sha256) === settled) this.byDigest.delete(octets.sha256);
    }
  }

  private async placeOne(file: PendingFile, octets: Octets): Promise<void> {
    const { bytes, sha256 } = octets;
    const sent = this.sent.get(file.file);
    if (!sent) await this.readOfSize(bytes);
    const there = sent ? undefined : (await this.copies.thereNow([sha256])).get(sha256);
    if (!there && !sent && !this.takeRoom(bytes)) return this.leave(file, 'no-room');
    const placed = there ? undefined : await this.placing.place(file, octets, sent);
    if (placed && 'left' in placed) {
      if (!sent) this.giveRoom(bytes);
      if (placed.left === 'no-room') this.refused = Math.min(this.refused, bytes);
      return this.leave(file, placed.left);
    }
    await this.write(async (db) => {
      const { id: account } = this.account;
      const digest = Buffer.from(sha256, 'hex');
      const spaceFile =
        there?.id ??
        (await noteUploaded(db, account, this.space, memberOf(placed?.at ?? never(), false, undefined), digest));
      const path = placed?.at.path ?? null;
      const put = { file: file.file, encoded: file.size, path, sha256, bytes, spaceFile };
      await notePut(db, account, this.asked.id, put);
      await updateUpload(db, account, this.asked.id, { attempts: 0 });
      await saveFileDigests(db, account, [{ file: file.file, sha256: digest, size: bytes }]);
    });
  }

  /** Takes room for a file before it is sent, since others are sent at the same time. @returns whether there is so much. */
  private takeRoom(bytes: number): boolean {
    if (bytes >= this.refused) return false;
    if (this.room === undefined) return true;
    if (bytes > this.room) return false;
    this.room -= bytes;
    return true;
  }

  private giveRoom(bytes: number): void {
    if (this.room !== undefined) this.room += bytes;
  }

  /** Reads files that lie there and have as many octets: one of them may be the same. */
  private async readOfSize(bytes: number): Promise<void> {
    const { database } = this.context;
    for (const file of await unreadOfSize(database, this.account.id, this.space.id, bytes, MOST_READ)) {
      const sha256 = await hashOf(this.client, file);
      await this.fenced((db) => saveSpaceDigest(db, this.account.id, file.id, sha256));
    }
  }

  private leave({ file, size }: PendingFile, reason: NotPutReason): Promise<void> {
    return this.write((db) => noteNotPut(db, this.account.id, this.asked.id, file, size, reason));
  }

  private async write(act: (db: Queryable) => Promise<void>): Promise<void> {
    await this.fenced(async (db) => {
      await act(db);
      await this.turn.progressed(db);
      if (Date.now() - this.announcedAt < ANNOUNCED_MS) return;
      this.announcedAt = Date.now();
      await tell(db, this.account.id, 'upload', { id: this.asked.id, state: 'running' });
    });
  }
}

/** Octets that a file has at least once it is decoded, in lines of a usual length (RFC 2045 §6.7, §6.8). */
function leastOctets({ encoding, size }: PendingFile): number {
  if (encoding === 'base64') return 0.7 * size;
  return encoding === 'quoted-printable' ? size / 3 : size;
}

function never(): never {
  throw new Error('A file is neither there nor was it put there.');
}
