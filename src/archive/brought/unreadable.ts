/** Why a file can't be brought in. */
export type UnreadableKind =
  | 'not-mail'
  | 'damaged-archive'
  | 'leads-out'
  | 'encrypted'
  | 'unpacks-to-too-much'
  | 'too-many-files';

/** What was given is nothing that mail can be read from; its message is for the person. */
export class Unreadable extends Error {
  constructor(
    readonly kind: UnreadableKind,
    message: string,
  ) {
    super(message);
  }
}

/** The octets of a file inside an archive end, or are not what was packed: what came of it stays. */
export class CutOff extends Error {}
