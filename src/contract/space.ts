import * as v from 'valibot';
import { FILE_KINDS } from '../core/files/kinds';
import { FileAmount, Ids, Label, ProblemNote, Scope, Shrinking, Timestamp, Waits } from './schemas';

/** The shapes of the API for file spaces. Sizes are octets, times RFC 3339 in UTC. */

const count = v.pipe(v.number(), v.integer(), v.minValue(0));

export const NewSpace = v.object({
  /** Of its uppermost folder: `https://files.example/space/`. */
  address: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(1_000)),
  /** Who signs in; without it, as to the mailbox. */
  user: v.optional(v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(320))),
  password: v.optional(v.pipe(v.string(), v.minLength(1), v.maxLength(1_000))),
});

export const SpaceChange = v.object({
  /** Whether its files count against the limit of the mailbox; null: as the figures of both servers tell. */
  counts: v.optional(v.nullable(v.boolean())),
  /** Another password. Both, or neither. */
  user: NewSpace.entries.user,
  password: NewSpace.entries.password,
});

export const FoundSpace = v.object({
  address: v.string(),
  /** The operator's list, SRV records, or the well-known address of the domain. */
  how: v.picklist(['list', 'dns', 'well-known']),
  /** Whether it lies in the domain of the mail server or of the address: where not, somebody should look at it. */
  within: v.boolean(),
});

export const Space = v.object({
  id: v.number(),
  address: v.string(),
  /** Who signs in; null: as to the mailbox. */
  user: v.nullable(v.string()),
  /** `locked`: there is no password that the server takes. */
  state: v.picklist(['active', 'locked']),
  /** Whether its files count against the limit of the mailbox; null: nobody knows. */
  counts: v.nullable(v.boolean()),
  countsBy: v.picklist(['figures', 'user']),
  /** What the server says (RFC 4331), and when it said so. */
  used: v.optional(count),
  available: v.optional(count),
  askedAt: v.optional(Timestamp),
  listing: v.object({
    state: v.picklist(['queued', 'running', 'done', 'failed']),
    folders: v.object({ done: count, total: count }),
  }),
  /** When it was last listed to its end. */
  listedAt: v.optional(Timestamp),
  /** Files of one's own; of these, pictures; and what others share, which does not count. */
  own: FileAmount,
  pictures: FileAmount,
  shared: FileAmount,
  /** Of one's own, what lies in its trash; and its folder, for a person. */
  inTrash: FileAmount,
  trash: v.nullable(v.string()),
  problem: v.optional(ProblemNote),
});

export const SpaceFile = v.object({
  id: v.number(),
  /** For a person, from the uppermost folder on. */
  path: v.string(),
  name: v.string(),
  type: v.string(),
  kind: v.picklist(FILE_KINDS),
  bytes: count,
  modified: v.nullable(Timestamp),
  shared: v.boolean(),
});

export const SpaceContents = v.object({
  /** The largest folders, with all below them, and how many others there are. */
  folders: v.array(v.object({ path: v.string(), shared: v.boolean(), ...FileAmount.entries, total: FileAmount })),
  others: count,
  kinds: v.array(v.object({ kind: v.picklist(FILE_KINDS), ...FileAmount.entries })),
  /** By the year of the last change; null: the server does not say. */
  years: v.array(v.object({ year: v.nullable(v.number()), ...FileAmount.entries })),
});

/** A lot of files: they go to the trash of their file space, are deleted, or smaller pictures take their places. */
export const FileLot = v.object({
  id: count,
  space: count,
  label: v.string(),
  fate: v.picklist(['trash', 'purge', 'shrink']),
  /** How pictures are made smaller: `bytes` is about what that wins then. Null of all else. */
  shrinking: v.nullable(Shrinking),
  ...FileAmount.entries,
  excepted: count,
  /** Files that went, or changed, since they were marked. */
  vanished: count,
  /** Files that were taken out of messages, and are in none outside the trash any more, as far as is known. */
  takenOut: count,
  /** What it adds to the lots before it, and what no other lot holds. */
  adds: FileAmount,
  only: FileAmount,
  createdAt: Timestamp,
});

/** The lots of files in the plan, and their union. */
export const FilePlan = v.object({ lots: v.array(FileLot), total: FileAmount });

export const NewFileLot = v.object({
  label: v.optional(Label),
  fate: v.optional(v.picklist(['trash', 'purge', 'shrink']), 'trash'),
  /** For the fate `shrink`, which takes pictures only. */
  shrinking: v.optional(Shrinking),
  /** Some files, or all of one's own in a folder and below it, from the uppermost folder on: `Open days/2024`. */
  ids: v.optional(Ids),
  folder: v.optional(v.pipe(v.string(), v.maxLength(8_000))),
});

/** Files of any file space, by their ids. */
export const NewFileLots = v.object({
  label: NewFileLot.entries.label,
  fate: NewFileLot.entries.fate,
  shrinking: NewFileLot.entries.shrinking,
  ids: Ids,
});

export const LotFile = v.object({
  id: v.number(),
  path: v.string(),
  name: v.string(),
  bytes: count,
  modified: v.nullable(Timestamp),
  excepted: v.boolean(),
});

/** What lies in the trash of a file space, by how it came there. */
export const SpaceTrash = v.object({
  /** Its folder, for a person; null where there is none yet. */
  folder: v.nullable(v.string()),
  /** `run` and `label` are null of what came in another way. */
  groups: v.array(v.object({ run: v.nullable(count), label: v.nullable(v.string()), ...FileAmount.entries })),
});

/** A run on files of a file space. Exactly one of `lots`, `run`, `rest` and `trash`. */
export const NewFileRun = v.object({
  action: v.picklist(['trash', 'purge', 'restore', 'shrink']),
  label: v.optional(Label),
  lots: v.optional(Ids),
  /** What that run brought to the trash and lies there still. */
  run: v.optional(count),
  /** What that run left. */
  rest: v.optional(count),
  /** All that lies in the trash. */
  trash: v.optional(v.literal(true)),
  /** What it has to touch, else nothing is begun. */
  expect: v.optional(v.object({ files: count, bytes: v.optional(count) })),
});

export const FileOutcome = v.object({
  id: v.number(),
  path: v.string(),
  bytes: count,
  /** `done`, `waiting`, or why it was left. */
  outcome: v.string(),
});

/** Pictures of a file space nearly alike. */
export const SpacePictureSeries = v.object({
  /** The file that is proposed to stay, and why. */
  best: count,
  why: v.picklist(['sharpest', 'largest', 'first']),
  space: count,
  pictures: v.array(
    v.object({
      file: count,
      path: v.string(),
      name: v.string(),
      size: count,
      modified: Timestamp,
      width: count,
      height: count,
      /** How sharp it is, as a share of the best. */
      sharpness: v.number(),
    }),
  ),
});

/** Files of messages that are to be put into a file space. Exactly one of `ids` and `where`. */
export const NewUpload = v.object({
  label: v.optional(Label),
  ids: v.optional(Ids),
  where: v.optional(v.pipe(v.string(), v.maxLength(10_000))),
  scope: Scope,
  /** Where they are put, from the uppermost folder on; each in a folder of its year and its message. */
  folder: v.optional(v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(500)), 'From mail'),
});

/** What an upload would come to. */
export const UploadEstimate = v.object({
  /** Files that can be taken out of their messages once they lie there, and the octets that mail holds of them. */
  inMail: FileAmount,
  /** Octets that they will take in the file space; those in base64 up to some hundredths too many. */
  inSpace: count,
  /** Octets that the file space has left, as its server said last; null: it does not say. */
  available: v.nullable(count),
  /** How many of them are filled at most: half where both count against one limit, or nobody knows. */
  room: v.nullable(count),
  /** Whether both count against one limit; null: nobody knows. */
  counts: v.nullable(v.boolean()),
});

/** Files of messages that are put into a file space, are read back there, and stay in their messages until a run takes them out. */
export const Upload = v.object({
  id: count,
  space: count,
  label: v.string(),
  folder: v.string(),
  state: v.picklist(['queued', 'running', 'paused', 'done', 'cancelled', 'failed']),
  /** Encoded octets in messages. */
  asked: FileAmount,
  /** What lies there and was read back, in octets there. Of these, `had` was there before. */
  done: FileAmount,
  had: FileAmount,
  left: v.array(v.object({ reason: v.string(), ...FileAmount.entries })),
  wanted: v.nullable(v.picklist(['pause', 'cancel'])),
  problem: v.optional(ProblemNote),
  createdAt: Timestamp,
  endedAt: v.optional(Timestamp),
  waits: Waits,
});

export const UploadedFile = v.object({
  /** Of the file in its message. */
  file: count,
  name: v.string(),
  /** `sent`: it is not known yet whether it came. */
  state: v.picklist(['sent', 'done', 'left']),
  /** Where it lies there, for a person. */
  path: v.optional(v.string()),
  encoded: count,
  /** Octets there. */
  bytes: v.optional(count),
  reason: v.optional(v.string()),
});
