import { setTimeout as sleep } from 'node:timers/promises';
import { deleteFile, moveFile } from '../../../dav/change';
import type { DavClient } from '../../../dav/client';
import { isSame, type Resource } from '../../../dav/listing';
import { isPassingProblem, SpaceProblem, type SpaceProblemKind } from '../../../dav/problem';
import { look } from '../../../dav/transfer';
import type { SentFile } from '../../../store/runs/file-runs';
import type { LeftReason } from '../../../store/runs/runs';

/** What became of a file that was sent. */
export type Sent =
  /** It lies where it was to go, as its server says of it there; of a purge it is gone. */
  | { done: Resource | 'gone' }
  /** Nothing was done with it, and nothing speaks against trying again. */
  | 'pending'
  | { left: LeftReason; because?: SpaceProblem | undefined };

const REASONS: Partial<Record<SpaceProblemKind, LeftReason>> = {
  locked: 'locked',
  'no-room': 'no-room',
  'folder-gone': 'folder-gone',
};

/** Why a file is left that the server refused to do something with. */
export function reasonOf(problem: SpaceProblem): LeftReason {
  return REASONS[problem.kind] ?? 'refused';
}

/** Whether a failure concerns one file, and not the way to the server, or what it can be believed. */
export function isRefusal(error: unknown): error is SpaceProblem {
  const ends = new Set<SpaceProblemKind>([
    'password-refused',
    'no-mechanism',
    'unreadable-answer',
    'untrusted-certificate',
  ]);
  return error instanceof SpaceProblem && !isPassingProblem(error) && !ends.has(error.kind);
}

/**
 * Moves or deletes a file, and finds out what became of it by what lies where afterwards, not by what the server answers.
 *
 * @param again whether it was sent before, and nobody knows whether that is still under way.
 * @throws where that can't be found out now: what was sent stays written down, and is asked for by whoever goes on.
 */
export async function send(client: DavClient, file: SentFile, again: boolean): Promise<Sent> {
  try {
    if (file.to === null) await deleteFile(client, file.from, file.etag ?? undefined);
    else await moveFile(client, file.from, file.to, file.etag ?? undefined);
  } catch (error) {
    if (!isRefusal(error)) throw error;
    // It was not there any more, so somebody else took it away.
    if (file.to === null && error.kind === 'gone' && !again) return { left: 'vanished' };
    // The server has answered, so it is in the middle of nothing.
    const found = await foundNow(client, file);
    return found === 'pending' ? { left: reasonOf(error), because: error } : found;
  }
  if (file.to === null) return { done: 'gone' };
  // The server says that it was moved: what has arrived is looked at all the same.
  const arrived = await look(client, file.to);
  if (isWhole(arrived, file)) return { done: arrived };
  const found = await foundNow(client, file);
  return found === 'pending' ? { left: 'refused' } : found;
}

/** How often, and after how many milliseconds, it is looked again where a server may be in the middle of a move. */
const LOOKS = 8;
const LOOK_AGAIN_MS = 500;

/**
 * What became of a file of which nobody knows whether the server did what it was sent for. Where it lies in both places the server may
 * still be copying it, and take the first away then.
 */
export async function whatBecameOf(client: DavClient, file: SentFile): Promise<Sent> {
  for (let looks = 1; ; looks++) {
    const found = await foundNow(client, file);
    if (file.to === null || looks === LOOKS || !isInBoth(found)) return found;
    await sleep(LOOK_AGAIN_MS);
  }
}

function isInBoth(found: Sent): boolean {
  return typeof found === 'object' && 'left' in found && found.left === 'there';
}

async function foundNow(client: DavClient, file: SentFile): Promise<Sent> {
  const source = await look(client, file.from);
  const isThere = source !== undefined && isAsItWas(source, file);
  if (file.to === null) return isThere ? 'pending' : source ? { left: 'changed' } : { done: 'gone' };
  const arrived = await look(client, file.to);
  // Where it lies in both, the server did a part of it, or somebody else put something there. Nothing is lost, and nothing is taken away.
  if (isThere) return arrived ? { left: 'there' } : 'pending';
  if (isWhole(arrived, file)) return { done: arrived };
  if (source) return { left: 'changed' };
  // It is not where it lay, and not where it was to go.
  return { left: arrived ? 'unknown' : 'vanished' };
}

/** Whether a file lies somewhere with as many octets as it has. */
export function isWhole(resource: Resource | undefined, { bytes }: Pick<SentFile, 'bytes'>): resource is Resource {
  return resource !== undefined && !resource.isCollection && resource.bytes === bytes;
}

/** Whether a file is still in the state in which it was frozen. */
export function isAsItWas(
  now: Resource,
  before: { bytes: number; etag: string | null; modified: Date | null },
): boolean {
  return (
    !now.isCollection &&
    isSame(now, { bytes: before.bytes, etag: before.etag ?? undefined, modified: before.modified ?? undefined })
  );
}
