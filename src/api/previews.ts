import { LRUCache } from 'lru-cache';
import pLimit from 'p-limit';
import { MOST_LEFT, type Shrinking } from '../core/files/shrinking';
import { SpaceProblem } from '../dav/problem';
import { downloadFirst } from '../dav/transfer';
import { type SignInContext, SignInNeeded } from '../jobs/sign-in';
import { openSpace } from '../jobs/space/sign-in';
import { decoded } from '../mail/mime/decoded';
import { MailProblem } from '../mail/problem';
import type { MailServer } from '../mail/server';
import { Renderer, renderProgram } from '../render/renderer';
import type { Made, Refusal } from '../render/tasks';
import type { Account } from '../store/access/accounts';
import { fileById, type LocatedFile } from '../store/archive/file-list';
import { spaceFileById } from '../store/space/contents';
import { spaceById } from '../store/space/spaces';
import { KeptServers } from './kept-servers';
import { conflict, notFound } from './problem';

/** What is seen of a file: a picture for lists, one as large as a screen, or its first words. */
export type Sight = 'small' | 'large' | 'words';

/** Encoded octets of a picture that are fetched first: cameras put a small picture of it in front (Exif, at most 64 KiB). */
const FIRST_OCTETS = 90 * 1024;
/** Encoded octets of a file that are fetched for it. */
const MOST_OCTETS = 48 * 2 ** 20;
/** Octets of what was made that are kept. */
const KEPT_OCTETS = 64 * 2 ** 20;
/** Files that are fetched whole at a time, of all accounts together. */
const MOST_WHOLE = 4;
/** What keeping something costs besides its octets. */
const ENTRY_OCTETS = 200;

const WITH_WORDS: ReadonlySet<string> = new Set(['document', 'table', 'calendar']);

const REASONS: Record<Refusal, string> = {
  'unknown-format': 'Files of this format can’t be shown.',
  damaged: 'The file is damaged, or is not what its name says.',
  'too-many-points': 'The picture claims more points than are decoded: 120 million.',
  'not-smaller': 'The smaller picture would not save enough.',
  'too-slow': 'It took too long to read the file.',
  'too-much-memory': 'It took too much memory to read the file.',
  'too-large': 'The file is too large to be fetched only to be shown.',
  locked: 'A password opens the file.',
  'no-words': 'The file has no text.',
};

/**
 * Pictures and first words of files, made when they are asked for: from as few octets of the file as will do, by a process that
 * can be killed. What was made is kept in memory, up to a limit, and never on the disk.
 */
export class Previews {
  private readonly made = new LRUCache<string, Made>({
    maxSize: KEPT_OCTETS,
    sizeCalculation: (one) =>
      ENTRY_OCTETS + (one.kind === 'picture' ? one.octets.length : one.kind === 'words' ? 2 * one.text.length : 0),
  });
  private readonly renderer = new Renderer(renderProgram());
  private readonly servers = new KeptServers();
  /** Whole files are held in memory while they are looked at. */
  private readonly whole = pLimit(MOST_WHOLE);
  /** Each has a connection of its own. */
  private readonly inSpaces = pLimit(MOST_WHOLE);

  /**
   * What is seen of a file.
   *
   * @throws Problem where nothing can be seen, with the reason.
   */
  async see(context: SignInContext, account: Account, id: number, sight: Sight, signal: AbortSignal) {
    const key = `${account.id} ${id} ${sight}`;
    let made = this.made.get(key);
    if (!made) {
      const file = await fileById(context.database, account.id, id);
      if (!file) throw notFound();
      const fetched = (most: number) => {
        const ask = (server: MailServer) => octetsOf(server, file, most);
        return this.servers.ask(context, account, file, signal, ask);
      };
      made = file.part === '' ? UNKNOWN : await this.make(file, sight, fetched);
      if (isForGood(made)) this.made.set(key, made);
    }
    return shown(made);
  }

  /** What is seen of a file of a file space. @throws Problem as `see`. */
  async seeInSpace(context: SignInContext, account: Account, id: number, sight: Sight, signal: AbortSignal) {
    const key = `${account.id} space ${id} ${sight}`;
    let made = this.made.get(key);
    if (!made) {
      const file = await spaceFileById(context.database, account.id, id);
      const space = file && (await spaceById(context.database, account.id, file.space));
      if (!space) throw notFound();
      made = await this.inSpaces(async () => {
        if (signal.aborted) throw notFound();
        const client = await openSpace(context, account, space);
        try {
          const { path, bytes } = file;
          return await this.make({ ...file, size: bytes }, sight, (most) => downloadFirst(client, path, bytes, most));
        } finally {
          client.close();
        }
      }).catch((error: unknown) => {
        throw asProblemOfSpace(error);
      });
      if (isForGood(made)) this.made.set(key, made);
    }
    return shown(made);
  }

  /**
   * A picture made smaller, as a run would make it, and how many octets it has before and after.
   *
   * @throws Problem where it can't be made smaller, with the reason.
   */
  async shrink(context: SignInContext, account: Account, id: number, by: Shrinking, signal: AbortSignal) {
    const file = await fileById(context.database, account.id, id);
    if (!file) throw notFound();
    if (file.kind !== 'picture' || file.part === '') throw conflict('no-preview', REASONS['unknown-format']);
    if (file.size > MOST_OCTETS) throw conflict('no-preview', REASONS['too-large']);
    return this.smaller(by, () => {
      const ask = (server: MailServer) => octetsOf(server, file, file.size);
      return this.servers.ask(context, account, file, signal, ask);
    });
  }

  /** The same of a picture in a file space. */
  async shrinkInSpace(context: SignInContext, account: Account, id: number, by: Shrinking, signal: AbortSignal) {
    const file = await spaceFileById(context.database, account.id, id);
    const space = file && (await spaceById(context.database, account.id, file.space));
    if (!space) throw notFound();
    if (file.kind !== 'picture') throw conflict('no-preview', REASONS['unknown-format']);
    if (file.bytes > MOST_OCTETS) throw conflict('no-preview', REASONS['too-large']);
    return this.inSpaces(async () => {
      if (signal.aborted) throw notFound();
      const client = await openSpace(context, account, space);
      try {
        return await this.smaller(by, () => downloadFirst(client, file.path, file.bytes, file.bytes));
      } finally {
        client.close();
      }
    }).catch((error: unknown) => {
      throw asProblemOfSpace(error);
    });
  }

  private smaller({ longest, place }: Shrinking, fetched: () => Promise<Uint8Array>) {
    return this.whole(async () => {
      const octets = await fetched();
      const task = { make: 'shrunk', octets, longest, keepsPlace: place === 'keep', mostLeft: MOST_LEFT } as const;
      const made = await this.renderer.make(task);
      if (made.kind !== 'picture')
        throw conflict('no-preview', REASONS[made.kind === 'refused' ? made.reason : 'damaged']);
      return { before: octets.length, made };
    });
  }

  /** @param fetched its first octets, at most so many. */
  private async make(
    file: Pick<LocatedFile, 'kind' | 'size' | 'type'>,
    sight: Sight,
    fetched: (most: number) => Promise<Uint8Array>,
  ): Promise<Made> {
    const isFit = sight === 'words' ? WITH_WORDS.has(file.kind) : file.kind === 'picture';
    if (!isFit) return UNKNOWN;
    if (sight === 'small') {
      const octets = await fetched(FIRST_OCTETS);
      const isWhole = file.size <= FIRST_OCTETS;
      const made = await this.renderer.make({ make: 'thumbnail', octets, isWhole });
      if (made.kind !== 'needs-all') return made;
    }
    if (file.size > MOST_OCTETS) return { kind: 'refused', reason: 'too-large' };
    return this.whole(async () => {
      const octets = await fetched(file.size);
      if (sight === 'small') return this.renderer.make({ make: 'thumbnail', octets, isWhole: true });
      return this.renderer.make(
        sight === 'large' ? { make: 'picture', octets } : { make: 'words', octets, type: file.type },
      );
    });
  }
}

const UNKNOWN: Made = { kind: 'refused', reason: 'unknown-format' };

/** @throws Problem where nothing can be seen, with the reason. */
function shown(made: Made) {
  if (made.kind === 'picture' || made.kind === 'words') return made;
  throw conflict('no-preview', REASONS[made.kind === 'refused' ? made.reason : 'damaged']);
}

function asProblemOfSpace(error: unknown): unknown {
  if (error instanceof SignInNeeded)
    return conflict('sign-in-needed', 'The file space does not let Tamsel in any more.');
  if (!(error instanceof SpaceProblem || error instanceof MailProblem)) return error;
  return error.kind === 'gone' ? notFound() : conflict(error.kind, error.message);
}

/** Whether it would be made the same again: on a machine with less to do, a file may not take too long. */
function isForGood(made: Made): boolean {
  return made.kind !== 'refused' || (made.reason !== 'too-slow' && made.reason !== 'too-much-memory');
}

/** The first octets of a file, decoded. */
async function octetsOf(server: MailServer, file: LocatedFile, most: number): Promise<Uint8Array> {
  const pieces: Uint8Array[] = [];
  try {
    const { uid, part: section, size: expected, encoding } = file;
    for await (const piece of decoded(server.download({ uid, section, expected, most }), encoding)) pieces.push(piece);
  } catch (error) {
    if (error instanceof MailProblem && error.kind === 'message-gone') throw notFound();
    throw error;
  }
  return Buffer.concat(pieces);
}
