import { collectionOf, memberPath } from '../../core/space/path';
import { deleteFile, putFile } from '../../dav/change';
import type { DavClient } from '../../dav/client';
import { isSame, type Resource } from '../../dav/listing';
import { SpaceProblem, type SpaceProblemKind } from '../../dav/problem';
import { download, look } from '../../dav/transfer';
import type { PendingFile } from '../../store/archive/bags';
import type { NotPutReason, SentUpload } from '../../store/space/uploads';
import type { FileFolders } from '../run/files/folders';
import { isRefusal } from '../run/files/sender';
import type { Octets } from './octets';

/** Places that are tried for one file: each is taken by something else. */
const MOST_PLACES = 100;
/** Times that a folder is made anew for one file. */
const MOST_FOLDERS = 2;

const REASONS: Partial<Record<SpaceProblemKind, NotPutReason>> = {
  locked: 'locked',
  'no-room': 'no-room',
  'folder-gone': 'folder-gone',
};

/** Where a file lies now, as its server says of it there; or why it was not put there. */
export type Placed = { at: Resource } | { left: NotPutReason };

/** What lies at a place, held against the octets of a file. */
type Found =
  | { is: 'nothing' | 'other' }
  /** All of its octets, or its first ones and no others. */
  | { is: 'same' | 'part'; resource: Resource };

/** Whoever knows where files go, and keeps what was sent. */
interface Keeper {
  /** A path below the folder of the upload that was not given to another file. */
  pathFor(file: PendingFile): Promise<string>;
  /** Writes down where a file is about to be put. @param key the path below that folder. */
  sending(file: PendingFile, octets: Octets, path: string, key: string): Promise<void>;
}

/**
 * Puts files into a file space: each where nothing is, and reads it back to its last octet. Nothing is overwritten. What is taken away
 * again is only what this upload itself put there and is not whole.
 */
export class Placing {
  constructor(
    private readonly client: DavClient,
    private readonly folders: FileFolders,
    /** The path below which they are put. */
    private readonly below: string,
    private readonly keeper: Keeper,
  ) {}

  /**
   * @param sent where it was sent before the work was interrupted.
   * @throws what does not concern this file alone.
   */
  async place(file: PendingFile, octets: Octets, sent: SentUpload | undefined): Promise<Placed> {
    try {
      return await this.placed(file, octets, sent);
    } catch (error) {
      if (!isRefusal(error)) throw error;
      return { left: REASONS[error.kind] ?? 'refused' };
    }
  }

  private async placed(file: PendingFile, octets: Octets, sent: SentUpload | undefined): Promise<Placed> {
    let again = sent?.sha256 === octets.sha256 ? sent.path : undefined;
    if (again !== undefined) {
      const found = await this.foundAt(again, octets);
      if (found.is === 'same') return { at: found.resource };
      if (found.is === 'part') await deleteFile(this.client, again, found.resource.etag);
      else if (found.is === 'other') again = undefined;
    }
    let folders = 0;
    for (let places = 0; places < MOST_PLACES; places++) {
      const path = again ?? (await this.freePlace(file, octets));
      again = undefined;
      if (path === undefined) continue;
      try {
        await this.folders.idOf(collectionOf(path) as string);
        await putFile(this.client, path, octets.bytes, () => octets.scratch.read(0, octets.bytes));
      } catch (error) {
        if (!isRefusal(error)) throw error;
        if (error.kind === 'changed') {
          // Somebody was there first: it may be what was sent before the work was interrupted.
          const found = await this.foundAt(path, octets);
          if (found.is === 'same') return { at: found.resource };
          continue;
        }
        if (error.kind !== 'folder-gone' || ++folders > MOST_FOLDERS) throw error;
        this.folders.forget();
        again = path;
        continue;
      }
      const found = await this.foundAt(path, octets);
      if (found.is === 'same') return { at: found.resource };
      if (found.is === 'part') await deleteFile(this.client, path, found.resource.etag);
      return { left: 'altered' };
    }
    return { left: 'there' };
  }

  /** Takes the next place for a file, and writes it down; undefined where something lies there. */
  private async freePlace(file: PendingFile, octets: Octets): Promise<string | undefined> {
    const key = await this.keeper.pathFor(file);
    const names = key.split('/');
    const path = names.reduce((above, name, at) => memberPath(above, name, at < names.length - 1), this.below);
    if (await this.isTaken(path)) return undefined;
    await this.keeper.sending(file, octets, path, key);
    return path;
  }

  private async isTaken(path: string): Promise<boolean> {
    try {
      return (await look(this.client, path)) !== undefined;
    } catch (error) {
      // Some servers send whoever asks for a folder without its slash to where it has one.
      if (error instanceof SpaceProblem && error.kind === 'not-dav') return true;
      throw error;
    }
  }

  /** Reads what lies at a place, and holds it against what a file has. */
  private async foundAt(path: string, { scratch, bytes }: Octets): Promise<Found> {
    const resource = await look(this.client, path);
    if (!resource) return { is: 'nothing' };
    // An empty file begins as every file does, so it may be anybody's.
    if (resource.isCollection || resource.bytes === 0 || resource.bytes > bytes) return { is: 'other' };
    try {
      let at = 0;
      for await (const piece of download(this.client, path, resource.bytes)) {
        const own: Uint8Array[] = [];
        for await (const octets of scratch.read(at, at + piece.length)) own.push(octets);
        if (!Buffer.concat(own).equals(piece)) return { is: 'other' };
        at += piece.length;
      }
      const after = await look(this.client, path);
      if (!after || !isSame(resource, after)) return { is: 'other' };
      return { is: resource.bytes === bytes ? 'same' : 'part', resource: after };
    } catch (error) {
      if (error instanceof SpaceProblem && (error.kind === 'gone' || error.kind === 'changed')) return { is: 'other' };
      throw error;
    }
  }
}
