import { createHash } from 'node:crypto';
import { MOST_LEFT, type Shrinking } from '../../../core/files/shrinking';
import { collectionOf } from '../../../core/space/path';
import { pathInTrash } from '../../../core/space/trash';
import { deleteFile, moveFile, putFile } from '../../../dav/change';
import { isSame, type Resource } from '../../../dav/listing';
import { SpaceProblem } from '../../../dav/problem';
import { download, look } from '../../../dav/transfer';
import {
  beginFiles,
  closeFiles,
  type MadeSmaller,
  type RunFile,
  reopenFiles,
  type SentFile,
} from '../../../store/runs/file-runs';
import type { LeftReason } from '../../../store/runs/runs';
import { type MovedFile, noteMoved, noteUploaded } from '../../../store/space/listing';
import { memberOf } from '../../space/member';
import { eachAtATime, FileWork, type Ready } from './file-work';
import { isAsItWas, isRefusal, isWhole, reasonOf, send, whatBecameOf } from './sender';

/** Octets of a picture that is made smaller: it is held in memory. */
const MOST_SHRUNK = 48 * 2 ** 20;

/** A file that is sent, with what takes its place. */
type Shrunk = SentFile & { to: string; made: MadeSmaller };

/**
 * Puts a smaller picture in the place of each, and brings the original to the trash, where it stays until it is purged.
 *
 * The smaller one is put into the trash first, and read back. Then the original goes there, and then the smaller one into its place. So at
 * every moment the original is whole in one of two places, and the place of the picture is empty for one request at most.
 */
export class ShrinkingPictures extends FileWork {
  protected async pack(files: readonly RunFile[]): Promise<void> {
    await this.scene.told.says('carrying-out', files.length);
    await eachAtATime(files, (file) => this.orLeft(file, () => this.shrink(file)));
  }

  protected async recovered(ready: readonly Ready[]): Promise<void> {
    await eachAtATime(ready, ({ file, sent }) =>
      this.orLeft(file, () => this.recoverOne({ file, sent: sent as Shrunk })),
    );
  }

  private async orLeft(file: RunFile, act: () => Promise<unknown>): Promise<void> {
    try {
      await act();
    } catch (error) {
      if (!isRefusal(error)) throw error;
      await this.left(file, reasonOf(error), error);
    }
  }

  private async shrink(file: RunFile): Promise<void> {
    const { account, client, fenced, run, space } = this.scene;
    if (file.state !== 'there') return this.left(file, file.state === 'gone' ? 'vanished' : 'changed');
    const now = await look(client, file.path);
    if (!now) return this.left(file, 'vanished');
    if (!isAsItWas(now, file)) return this.left(file, 'changed');
    const smaller = await this.smallerOf(file.path, file.bytes);
    if (typeof smaller === 'string') return this.left(file, smaller);
    const trash = await this.ofRun();
    const to = pathInTrash(file.path, space.root, trash);
    const { id, path: from, bytes, modified } = file;
    const made = { bytes: smaller.length, sha256: digestOf(smaller), staged: stagedPath(trash, id) };
    const sent: Shrunk = { id, from, to, bytes, etag: now.etag ?? null, modified, made };
    await this.folders.idOf(collectionOf(to) as string);
    await fenced((db) => beginFiles(db, account, run.id, [sent]));
    const staged = await this.orGivenUp(sent, reasonOf, () => this.stagedBeside(file, sent, smaller));
    if (staged !== true) return staged && this.giveUp(sent, staged);
    // Where its server says no when it is asked after the move, nobody knows whether it moved it.
    const moved = await this.orGivenUp(
      sent,
      () => 'unknown',
      () => send(client, sent, false),
    );
    if (!moved) return;
    if (typeof moved !== 'object' || !('done' in moved) || moved.done === 'gone')
      return this.giveUp(sent, typeof moved === 'object' && 'left' in moved ? moved.left : 'refused');
    await this.replace({ file, sent }, moved.done);
  }

  /** Puts the smaller one into the trash. @returns true, or why the original stays where it is. */
  private async stagedBeside(file: RunFile, sent: Shrunk, smaller: Buffer): Promise<true | LeftReason> {
    const staged = await this.stage(sent, smaller);
    if (staged !== true) return staged;
    // It took a while.
    const now = await look(this.scene.client, sent.from);
    if (!now) return 'vanished';
    return isAsItWas(now, file) || 'changed';
  }

  /** Does a step with a file that is written down as sent. Where its server refuses that, the file is left. */
  private async orGivenUp<T>(
    sent: Shrunk,
    reason: (problem: SpaceProblem) => LeftReason,
    act: () => Promise<T>,
  ): Promise<T | undefined> {
    try {
      return await act();
    } catch (error) {
      if (!isRefusal(error)) throw error;
      await this.giveUp(sent, reason(error), error);
      return undefined;
    }
  }

  /** The octets of the smaller picture; or why there is none. */
  private async smallerOf(path: string, bytes: number): Promise<Buffer | 'no-gain' | 'not-decoded'> {
    if (bytes > MOST_SHRUNK) return 'not-decoded';
    const pieces: Buffer[] = [];
    for await (const piece of download(this.scene.client, path, bytes)) pieces.push(piece);
    const { longest, place } = this.scene.run.shrinking as Shrinking;
    const octets = Buffer.concat(pieces);
    const asked = { make: 'shrunk', octets, longest, keepsPlace: place === 'keep', mostLeft: MOST_LEFT } as const;
    const made = await this.scene.context.renderer.make(asked);
    if (made.kind === 'picture') return Buffer.from(made.octets);
    return made.kind === 'refused' && made.reason === 'not-smaller' ? 'no-gain' : 'not-decoded';
  }

  /** Puts the smaller one into the folder of this run in the trash, which is its own. @returns true, or why it is not there whole. */
  private async stage({ made }: Shrunk, smaller: Buffer): Promise<true | LeftReason> {
    const { client } = this.scene;
    await this.folders.idOf(collectionOf(made.staged) as string);
    // What an earlier try put there may not be whole.
    const before = await look(client, made.staged);
    if (before) await deleteFile(client, made.staged, before.etag);
    await putFile(client, made.staged, smaller.length, async function* () {
      yield smaller;
    });
    return (await this.holds(made.staged, made)) ? true : 'differs';
  }

  /** Makes the smaller one anew where it was lost. What can't be made leaves the original to come back. */
  private async stageAgain(sent: Shrunk): Promise<void> {
    try {
      if (await this.holds(sent.made.staged, sent.made)) return;
      const smaller = await this.smallerOf(sent.to, sent.bytes);
      if (typeof smaller !== 'string' && digestOf(smaller) === sent.made.sha256) await this.stage(sent, smaller);
    } catch (error) {
      if (!isRefusal(error)) throw error;
    }
  }

  /** Whether a smaller picture lies at a path, every octet of it; gives what its server says. */
  private async holds(path: string, { bytes, sha256 }: MadeSmaller): Promise<Resource | undefined> {
    const { client } = this.scene;
    const now = await look(client, path);
    if (!now || now.isCollection || now.bytes !== bytes) return undefined;
    const hash = createHash('sha256');
    try {
      for await (const piece of download(client, path, bytes)) hash.update(piece);
    } catch (error) {
      if (error instanceof SpaceProblem && (error.kind === 'gone' || error.kind === 'changed')) return undefined;
      throw error;
    }
    const after = await look(client, path);
    return hash.digest('hex') === sha256 && after && isSame(now, after) ? after : undefined;
  }

  /** Brings the smaller picture to where the original lay, which is in the trash by now; where that can't be, the original comes back. */
  private async replace(one: { file: RunFile; sent: Shrunk }, original: Resource): Promise<void> {
    try {
      await this.replaced(one, original);
    } catch (error) {
      if (!isRefusal(error)) throw error;
      await this.keepInTrash(one, original, reasonOf(error), error);
    }
  }

  private async replaced(one: { file: RunFile; sent: Shrunk }, original: Resource): Promise<void> {
    const { client } = this.scene;
    const { sent } = one;
    let refused: SpaceProblem | undefined;
    try {
      const staged = await look(client, sent.made.staged);
      await moveFile(client, sent.made.staged, sent.from, staged?.etag);
    } catch (error) {
      if (!isRefusal(error)) throw error;
      refused = error;
    }
    const arrived = await this.holds(sent.from, sent.made);
    if (arrived) return this.close(one, original, arrived);
    if (await look(client, sent.from)) return this.keepInTrash(one, original, 'there', refused);
    try {
      await moveFile(client, sent.to, sent.from, original.etag);
    } catch (error) {
      if (!isRefusal(error)) throw error;
    }
    const back = await look(client, sent.from);
    if (isWhole(back, sent)) return this.giveUp(sent, refused ? reasonOf(refused) : 'refused', refused);
    return this.keepInTrash(one, original, refused ? reasonOf(refused) : 'refused', refused);
  }

  /** Finds out how far it came before the run was interrupted, and goes on from there. */
  private async recoverOne(one: { file: RunFile; sent: Shrunk }): Promise<void> {
    const { account, client, fenced, run } = this.scene;
    const { sent } = one;
    // A server may still be in the middle of the move.
    const found = await this.orGivenUp(
      sent,
      () => 'unknown',
      () => whatBecameOf(client, sent),
    );
    if (!found) return;
    if (found === 'pending') {
      await this.removeStaged(sent);
      return fenced((db) => reopenFiles(db, account, run.id, [sent.id]));
    }
    if ('left' in found) return this.giveUp(sent, found.left);
    const original = found.done as Resource;
    const source = await look(client, sent.from);
    const arrived = source && (await this.holds(sent.from, sent.made));
    if (arrived) return this.close(one, original, arrived);
    if (source) return this.keepInTrash(one, original, 'there');
    await this.stageAgain(sent);
    await this.replace(one, original);
  }

  private async close({ file, sent }: { file: RunFile; sent: Shrunk }, original: Resource, smaller: Resource) {
    const { account, fenced, run, space, told } = this.scene;
    const moved = await this.inTrash(file, sent, original);
    await fenced(async (db) => {
      await closeFiles(db, account, run.id, space.id, [moved], []);
      const digest = Buffer.from(sent.made.sha256, 'hex');
      await noteUploaded(db, account, space, memberOf(smaller, false, undefined), digest, run.id);
      await told.progressed(db);
    });
  }

  /** Leaves a file whose original is in the trash, from where it can be taken back, and in whose place something else lies. */
  private async keepInTrash(
    { file, sent }: { file: RunFile; sent: Shrunk },
    original: Resource,
    reason: LeftReason,
    because?: SpaceProblem,
  ): Promise<void> {
    const { account, fenced, space } = this.scene;
    const moved = await this.inTrash(file, sent, original);
    await fenced((db) => noteMoved(db, account, space.id, [moved]));
    await this.giveUp(sent, reason, because);
  }

  private async inTrash({ id }: RunFile, { from, to }: Shrunk, original: Resource): Promise<MovedFile> {
    const { etag = null, modified = null } = original;
    const folder = await this.folders.idOf(collectionOf(to) as string);
    return { id, path: to, folder, etag, modified, trashedBy: this.scene.run.id, origin: from };
  }

  /** Leaves a file; what was made of it goes. */
  private async giveUp(sent: Shrunk, reason: LeftReason, because?: SpaceProblem): Promise<void> {
    await this.removeStaged(sent);
    await this.left(sent, reason, because);
  }

  private async removeStaged({ made }: Shrunk): Promise<void> {
    const { client } = this.scene;
    try {
      const there = await look(client, made.staged);
      if (there) await deleteFile(client, made.staged, there.etag);
    } catch (error) {
      // It lies in the trash, and goes with that.
      if (!isRefusal(error)) throw error;
    }
  }
}

function digestOf(octets: Uint8Array): string {
  return createHash('sha256').update(octets).digest('hex');
}

/** Where a smaller picture lies until the original has gone: in a folder beside those of the originals, under the number of its file. */
function stagedPath(trash: string, file: number): string {
  return `${trash.replace(/\/$/, '')}%20smaller/${file}`;
}
