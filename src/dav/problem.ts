/** Why a file space could not be used, told apart so that a person knows what to do. */
export type SpaceProblemKind =
  /** What answers there is no WebDAV server. */
  | 'not-dav'
  | 'password-refused'
  /** A password could be read by others on the way. */
  | 'plain-text-not-allowed'
  | 'no-mechanism'
  | 'connection-lost'
  | 'timed-out'
  | 'throttled'
  | 'untrusted-certificate'
  /** An answer that was cut off, is too long, contradicts itself, or keeps to no grammar. */
  | 'unreadable-answer'
  | 'forbidden'
  | 'gone'
  /** Something is there already, or is not as it was (412). */
  | 'changed'
  /** The folder in which something is to be put is not there (409). */
  | 'folder-gone'
  /** 423 */
  | 'locked'
  /** 507 */
  | 'no-room'
  /** More files and folders than Tamsel keeps of one file space, or folders in each other without end. */
  | 'too-many'
  | 'command-refused';

/** A failure of the server of a file space, or of the way to it. `message` is a sentence for a person. */
export class SpaceProblem extends Error {
  constructor(
    readonly kind: SpaceProblemKind,
    message: string,
    options?: ErrorOptions,
  ) {
    super(message, options);
    this.name = 'SpaceProblem';
  }
}

const PASSING = new Set<SpaceProblemKind>(['connection-lost', 'timed-out', 'throttled']);

/** Whether the same may work a little later. */
export function isPassingProblem(error: unknown): boolean {
  return error instanceof SpaceProblem && PASSING.has(error.kind);
}
