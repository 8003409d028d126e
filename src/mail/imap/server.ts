import type { ImapFlow, ListResponse } from 'imapflow';
import type { SearchKey } from '../../core/criteria/imap';
import { readablePath, repeatsMail, roleOfUse } from '../../core/mailbox/folders';
import { encodeFolderName } from '../../core/mailbox/names';
import type { MessageRecord } from '../../core/mailbox/record';
import type { Ranges } from '../../core/sets/ranges';
import { MailProblem } from '../problem';
import type {
  Dialect,
  FlagsRecord,
  FolderChanges,
  ListedFolder,
  MailServer,
  Moved,
  OpenFolder,
  Outline,
  Quota,
  QuotaRoot,
} from '../server';
import { commandProblem, copyUid, foundUids, quotaAnswer, type RawAnswer, savedAt } from './answers';
import { fetchInBulk } from './fetch/bulk';
import type { Cursor } from './fetch/cursor';
import { AUTHORS, FLAGS, OutlineReader, readFlagsRecord } from './fetch/outline';
import { BARE_METADATA, METADATA, readRecord } from './fetch/record';
import { cut, Pace, Windows } from './fetch/windows';
import { messageText } from './text';

/** A command's arguments as imapflow compiles them. */
type Argument = { type: 'ATOM' | 'SEQUENCE' | 'STRING' | 'LITERAL'; value: string } | Argument[];

/** imapflow's command channel, which its types leave out. */
interface Channel {
  exec(
    command: string,
    attributes: Argument[],
    options?: { untagged?: Record<string, (answer: RawAnswer) => Promise<void>> },
  ): Promise<{ response: RawAnswer; next(): void }>;
}

/** An IMAP connection through imapflow; the commands whose failure matters are sent here, since imapflow hides it. */
export class ImapServer implements MailServer {
  readonly dialect: Dialect;
  readonly personalPrefix: string;
  private readonly pace = new Pace();

  constructor(private readonly client: ImapFlow) {
    const has = (capability: string) => client.capabilities.has(capability);
    this.dialect = {
      move: has('MOVE'),
      uidPlus: has('UIDPLUS'),
      condStore: has('CONDSTORE'),
      quota: has('QUOTA'),
      within: has('WITHIN'),
      createSpecialUse: has('CREATE-SPECIAL-USE'),
    };
    const namespace = (client as unknown as { namespace?: { prefix?: string } }).namespace;
    this.personalPrefix = namespace?.prefix ?? '';
  }

  async folders(): Promise<ListedFolder[]> {
    const statusQuery = { messages: true, uidNext: true, uidValidity: true, highestModseq: true, size: true } as const;
    const listed = await this.guarded(() => this.client.list({ statusQuery }));
    return listed.filter((folder) => !folder.flags.has('\\NonExistent')).map((folder) => this.listedFolder(folder));
  }

  private listedFolder(folder: ListResponse): ListedFolder {
    const selectable = !folder.flags.has('\\Noselect');
    const status = folder.status as Record<string, number | bigint | undefined> | undefined;
    // Where no folder is marked, the library goes by a list of names in many languages.
    const isMarked = folder.specialUseSource === 'extension';
    const isInbox = folder.path.toUpperCase() === 'INBOX';
    const told = (key: string) => (status?.[key] === undefined ? null : Number(status[key]));
    return {
      serverName: folder.path,
      path: readablePath(folder.path, folder.delimiter ?? null, this.personalPrefix),
      delimiter: folder.delimiter ?? null,
      role: isMarked || isInbox ? roleOfUse(folder.specialUse) : null,
      proposed: isMarked || isInbox ? null : roleOfUse(folder.specialUse),
      // A name alone makes no view: what a person called so is counted.
      repeats: repeatsMail([...folder.flags, ...(isMarked ? [folder.specialUse ?? ''] : [])]),
      selectable,
      status:
        selectable && told('messages') !== null
          ? {
              messages: told('messages') ?? 0,
              bytes: told('size'),
              uidNext: told('uidNext') ?? 0,
              uidValidity: told('uidValidity') ?? 0,
              modSeq: told('highestModseq'),
            }
          : null,
    };
  }

  async quota(): Promise<Quota | null> {
    if (!this.dialect.quota) return null;
    const quota = await this.guarded(() => this.client.getQuota('INBOX'));
    if (!quota) return null;
    const { storage, message } = quota as { storage?: QuotaResource; message?: QuotaResource };
    if (!storage && !message) return null;
    return {
      used: storage?.usage ?? null,
      limit: storage?.limit ?? null,
      messages: message?.usage ?? null,
      messageLimit: message?.limit ?? null,
    };
  }

  async quotaRootOf(serverName: string): Promise<QuotaRoot | null> {
    return this.firstRoot('GETQUOTAROOT', encodedName(serverName));
  }

  async quotaRoot(name: string): Promise<QuotaRoot | null> {
    return this.firstRoot('GETQUOTA', { type: 'STRING', value: name });
  }

  private async firstRoot(command: string, argument: Argument): Promise<QuotaRoot | null> {
    if (!this.dialect.quota) return null;
    const roots: QuotaRoot[] = [];
    try {
      await this.command(command, [argument], {
        QUOTA: async (answer) => {
          roots.push(quotaAnswer(answer));
        },
      });
    } catch (error) {
      // A folder that may not be asked, or a root that is gone, has no figure; that is no reason to end a scan.
      if (error instanceof MailProblem && error.kind === 'connection-lost') throw error;
      return null;
    }
    return roots[0] ?? null;
  }

  async open(serverName: string): Promise<OpenFolder> {
    const box = await this.guarded(() => this.client.mailboxOpen(serverName), serverName);
    return {
      uidValidity: Number(box.uidValidity),
      uidNext: box.uidNext,
      messages: box.exists,
      modSeq: box.highestModseq === undefined || box.noModseq ? null : Number(box.highestModseq),
      readOnly: box.readOnly === true,
    };
  }

  async createFolder(serverName: string, role?: 'trash'): Promise<void> {
    const use: Argument[] =
      role && this.dialect.createSpecialUse
        ? [[{ type: 'ATOM', value: 'USE' }, [{ type: 'ATOM', value: '\\Trash' }]]]
        : [];
    await this.command('CREATE', [encodedName(serverName), ...use]);
  }

  async uids(within?: Ranges): Promise<number[]> {
    if (!within) return this.find(['ALL']);
    const found: number[][] = [];
    for (const set of cut(within)) found.push(await this.find(['UID', set]));
    return found.flat();
  }

  async find(keys: readonly SearchKey[]): Promise<number[]> {
    const found: number[][] = [];
    const hear = async (answer: RawAnswer) => {
      found.push(foundUids(answer));
    };
    const returned: Argument[] = this.client.capabilities.has('ESEARCH')
      ? [{ type: 'ATOM', value: 'RETURN' }, [{ type: 'ATOM', value: 'ALL' }]]
      : [];
    const charset: Argument[] = isAscii(keys)
      ? []
      : [
          { type: 'ATOM', value: 'CHARSET' },
          { type: 'ATOM', value: 'UTF-8' },
        ];
    await this.command('UID SEARCH', [...returned, ...charset, ...keys.map(searchArgument)], {
      SEARCH: hear,
      ESEARCH: hear,
    });
    return found.flat();
  }

  async deletedUids(): Promise<number[]> {
    return this.find(['DELETED']);
  }

  metadata(uids: Ranges): AsyncIterable<MessageRecord[]> {
    const items = this.client.capabilities.has('OBJECTID') ? `(${METADATA} EMAILID)` : `(${METADATA})`;
    return this.bulk(uids, items, readRecord);
  }

  bareMetadata(uids: Ranges): AsyncIterable<MessageRecord[]> {
    return this.bulk(uids, `(${BARE_METADATA})`, readRecord);
  }

  outlines(uids: Ranges): AsyncIterable<Outline[]> {
    const reader = new OutlineReader();
    return this.bulk(uids, `(${AUTHORS})`, (cursor) => reader.read(cursor));
  }

  flags(uids: Ranges): AsyncIterable<FlagsRecord[]> {
    return this.bulk(uids, `(${FLAGS})`, readFlagsRecord);
  }

  async changes(since: number): Promise<FolderChanges | undefined> {
    if (!this.dialect.condStore) return undefined;
    const changed: FlagsRecord[] = [];
    const vanished: (readonly [number, number])[] = [];
    const vanishing = this.client.enabled.has('QRESYNC') ? ' VANISHED' : '';
    const commands = [`1:* (${FLAGS}) (CHANGEDSINCE ${since}${vanishing})`];
    const fetch = {
      next: () => commands.pop(),
      read: readFlagsRecord,
      vanished: (uids: Ranges) => vanished.push(...uids),
    };
    for await (const read of fetchInBulk(this.client, fetch)) for (const record of read) changed.push(record);
    return { vanished, changed };
  }

  /** The first command of a connection shows how fast the line is, and whether it is worth the work to deflate it. */
  private async *bulk<T>(uids: Ranges, items: string, read: (cursor: Cursor) => T | undefined): AsyncGenerator<T[]> {
    const windows = new Windows(uids, items, this.pace);
    if (!this.pace.isKnown) {
      const probe = [windows.next()];
      yield* fetchInBulk(this.client, {
        next: () => probe.pop(),
        read,
        answered: (octets) => windows.answered(octets),
      });
      if (this.pace.isSlow) await this.deflate();
    }
    yield* fetchInBulk(this.client, {
      next: () => windows.next(),
      read,
      answered: (octets) => windows.answered(octets),
    });
  }

  /** COMPRESS=DEFLATE (RFC 4978), where the server has it; one that refuses is left as it is. */
  private async deflate(): Promise<void> {
    await this.guarded(() => (this.client as unknown as { compress(): Promise<void> }).compress());
  }

  async move(uids: Ranges, destination: string): Promise<Moved> {
    return this.transfer('UID MOVE', uids, destination);
  }

  async copy(uids: Ranges, destination: string): Promise<Moved> {
    return this.transfer('UID COPY', uids, destination);
  }

  private async transfer(command: string, uids: Ranges, destination: string): Promise<Moved> {
    let moved: Moved = null;
    const note = (answer: RawAnswer) => {
      const told = copyUid(answer);
      if (!told) return;
      moved ??= { uidValidity: told.uidValidity, uids: new Map() };
      for (const [from, to] of told.uids) moved.uids.set(from, to);
    };
    for (const set of cut(uids)) {
      const name = encodedName(destination);
      const answer = await this.command(command, [{ type: 'SEQUENCE', value: set }, name], {
        OK: async (untagged) => note(untagged),
      });
      note(answer);
    }
    return moved;
  }

  async markDeleted(uids: Ranges, deleted: boolean): Promise<void> {
    for (const set of cut(uids)) {
      await this.command('UID STORE', [
        { type: 'SEQUENCE', value: set },
        { type: 'ATOM', value: deleted ? '+FLAGS.SILENT' : '-FLAGS.SILENT' },
        [{ type: 'ATOM', value: '\\Deleted' }],
      ]);
    }
  }

  async expunge(uids: Ranges): Promise<void> {
    for (const set of cut(uids)) await this.command('UID EXPUNGE', [{ type: 'SEQUENCE', value: set }]);
  }

  async expungeAll(): Promise<void> {
    await this.command('EXPUNGE', []);
  }

  async savedAt(uids: Ranges): Promise<Map<number, Date>> {
    const saved = new Map<number, Date>();
    if (!this.client.capabilities.has('SAVEDATE')) return saved;
    const items = ['UID', 'SAVEDATE'].map((value): Argument => ({ type: 'ATOM', value }));
    const hear = async (answer: RawAnswer) => {
      const said = savedAt(answer);
      if (said) saved.set(...said);
    };
    for (const set of cut(uids))
      await this.command('UID FETCH', [{ type: 'SEQUENCE', value: set }, items], { FETCH: hear });
    return saved;
  }

  async text(uid: number): Promise<string> {
    return this.guarded(() => messageText(this.client, uid));
  }

  async header(uid: number): Promise<string> {
    const message = await this.guarded(() => this.client.fetchOne(`${uid}`, { headers: true }, { uid: true }));
    return message ? (message.headers?.toString('utf8') ?? '') : '';
  }

  async close(): Promise<void> {
    const impatient = setTimeout(() => this.client.close(), 2_000);
    try {
      await this.client.logout();
    } catch {
      // A connection that is gone already is as closed as one can be.
      this.client.close();
    } finally {
      clearTimeout(impatient);
    }
  }

  private async command(
    name: string,
    attributes: Argument[],
    untagged: Record<string, (answer: RawAnswer) => Promise<void>> = {},
  ) {
    try {
      const { response, next } = await (this.client as unknown as Channel).exec(name, attributes, { untagged });
      next();
      return response;
    } catch (error) {
      throw commandProblem(error);
    }
  }

  private async guarded<T>(act: () => Promise<T>, folder?: string): Promise<T> {
    try {
      return await act();
    } catch (error) {
      throw commandProblem(error, folder);
    }
  }
}

interface QuotaResource {
  usage?: number;
  limit?: number;
}

/** Strings go as literals where they hold what a quoted string can't (RFC 9051 §9). */
function searchArgument(key: SearchKey): Argument {
  if (typeof key === 'string') return { type: 'ATOM', value: key };
  if (!('string' in key)) return key.map(searchArgument);
  return { type: /^[\x20-\x7e]*$/.test(key.string) ? 'STRING' : 'LITERAL', value: key.string };
}

function isAscii(key: SearchKey | readonly SearchKey[]): boolean {
  if (typeof key === 'string') return true;
  if ('string' in key) return /^[\x20-\x7e]*$/.test(key.string);
  return key.every(isAscii);
}

/** imapflow decodes names when it lists, so a name of ours is encoded again on the way out, always as a string. */
function encodedName(name: string): Argument {
  return { type: 'STRING', value: encodeFolderName(name) };
}
