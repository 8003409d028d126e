import type { Amount, Target } from './level';

/** What a level is told in: octets, or messages where their number is what fills the mailbox or what the target is of. */
export type Measure = 'bytes' | 'messages';

/** One of the two ways to see a level, all of it in the same measure. */
export interface Gauge {
  of: Measure;
  used: number;
  limit: number | null;
  /** What may be used; null where no target is known. */
  target: number | null;
  /** What is used once the plan was run and the trash purged. */
  after: number;
  mail: number;
  /** Of mail, and of file spaces that count. */
  trash: number;
  /** Of the trash what a guard keeps. */
  trashGuarded: number;
  /** In use, and neither mail that we counted nor files. */
  other: number;
  /** Files and pictures of file spaces that stay, and those that lots of the plan hold. */
  files: number;
  pictures: number;
  plannedFiles: number;
}

/** What of a level both ways of seeing it need. */
export interface GaugedLevel {
  used: number;
  limit: number | null;
  /** Where the host limits the number of messages: the limit, and its count. */
  messageLimit?: number | undefined;
  messagesUsed?: number | undefined;
  target: Target;
  /** The target in octets; null where it is none of octets. */
  targetBytes: number | null;
  mail: Amount;
  trash: Amount;
  trashGuarded: Amount;
  after: number;
  afterMessages: number;
  other: number;
  /** Where a file space is known that counts. */
  space?: { files: OfFiles; pictures: OfFiles; trash: OfFilesAndPictures; plan: OfFilesAndPictures } | undefined;
}

interface OfFiles {
  bytes: number;
}

interface OfFilesAndPictures extends OfFiles {
  pictureBytes: number;
}

/** The level in octets. Files are never more than what is in use besides mail. */
function inBytes({ used, limit, targetBytes, mail, trash, trashGuarded, after, other, space }: GaugedLevel): Gauge {
  const going = [space?.trash, space?.plan];
  const goingPictures = going.reduce((sum, part) => sum + (part?.pictureBytes ?? 0), 0);
  const goingFiles = going.reduce((sum, part) => sum + (part?.bytes ?? 0), 0) - goingPictures;
  let rest = other;
  const most = (bytes: number) => {
    const taken = Math.min(rest, Math.max(0, bytes));
    rest -= taken;
    return taken;
  };
  const plannedFiles = most(space?.plan.bytes ?? 0);
  const trashedFiles = most(space?.trash.bytes ?? 0);
  const files = most((space?.files.bytes ?? 0) - goingFiles);
  const pictures = most((space?.pictures.bytes ?? 0) - goingPictures);
  return {
    ...{ of: 'bytes', used, limit, target: targetBytes, after, other: rest, files, pictures, plannedFiles },
    ...{ mail: mail.bytes, trash: trash.bytes + trashedFiles, trashGuarded: trashGuarded.bytes },
  };
}

/** The level in messages. */
function inMessages(level: GaugedLevel): Gauge {
  const { target, mail, trash, trashGuarded, afterMessages: after } = level;
  const limit = level.messageLimit ?? null;
  const counted = mail.messages + trash.messages;
  const used = level.messagesUsed ?? counted;
  const share = 'share' in target && limit !== null ? Math.floor(target.share * limit) : null;
  return {
    ...{
      of: 'messages',
      used,
      limit,
      after,
      other: Math.max(0, used - counted),
      files: 0,
      pictures: 0,
      plannedFiles: 0,
    },
    target: 'messages' in target ? target.messages : share,
    ...{ mail: mail.messages, trash: trash.messages, trashGuarded: trashGuarded.messages },
  };
}

/**
 * The measure that matters: what the target is of. A share holds for both limits; of these the fuller one matters, and where that is
 * down to it after the plan, the other.
 */
export function gaugeOf(level: GaugedLevel): Gauge {
  const { target } = level;
  const [bytes, messages] = [inBytes(level), inMessages(level)];
  if ('messages' in target) return messages;
  if ('bytes' in target || messages.target === null) return bytes;
  if (bytes.target === null) return messages;
  const ordered = shareOf(messages) > shareOf(bytes) ? [messages, bytes] : [bytes, messages];
  return ordered.find(({ after, target: most }) => most !== null && after > most) ?? (ordered[0] as Gauge);
}

function shareOf({ used, limit }: Gauge): number {
  return limit === null ? 0 : limit === 0 ? Number.POSITIVE_INFINITY : used / limit;
}

/** Octets or messages. */
export type Missing = { bytes: number } | { messages: number };

/** What must go to reach the target; null where none is known. */
export function missingNow(level: GaugedLevel): Missing | null {
  const gauge = gaugeOf(level);
  return missing(gauge, gauge.used);
}

/** What must still go once the plan is run and the trash purged; null where no target is known. */
export function missingAfter(level: GaugedLevel): Missing | null {
  const gauge = gaugeOf(level);
  return missing(gauge, gauge.after);
}

function missing({ of, target }: Gauge, used: number): Missing | null {
  if (target === null) return null;
  const amount = Math.max(0, used - target);
  return of === 'bytes' ? { bytes: amount } : { messages: amount };
}
