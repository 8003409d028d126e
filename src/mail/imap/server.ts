import type { FetchMessageObject, ImapFlow, ListResponse } from 'imapflow';
import type { SearchKey } from '../../core/criteria/imap';
import { readFlags } from '../../core/mailbox/flags';
import { readablePath, repeatsMail, roleOfUse } from '../../core/mailbox/folders';
import { encodeFolderName } from '../../core/mailbox/names';
import type { MessageRecord } from '../../core/mailbox/record';
import { numbersOf, parseSequenceSet, printSequenceSet, type Ranges } from '../../core/sets/ranges';
import { MailProblem } from '../problem';
import type { Dialect, FlagsRecord, ListedFolder, MailServer, Moved, OpenFolder, Quota, QuotaRoot } from '../server';
import { commandProblem, copyUid, foundUids, quotaAnswer, type RawAnswer, savedAt } from './answers';
import { HEADER_FIELDS, recordOf } from './record';
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

/** A set on the command line is cut so that no command grows beyond what servers take (RFC 7162 §4 advises 8,192 octets). */
const LONGEST_SET = 7_000;

/** An IMAP connection through imapflow; the commands whose failure matters are sent here, since imapflow hides it. */
export class ImapServer implements MailServer {
  readonly dialect: Dialect;
  readonly personalPrefix: string;

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
    const told = (key: string) => (status?.[key] === undefined ? null : Number(status[key]));
    return {
      serverName: folder.path,
      path: readablePath(folder.path, folder.delimiter ?? null, this.personalPrefix),
      delimiter: folder.delimiter ?? null,
      role: roleOfUse(folder.specialUse),
      repeats: repeatsMail([...folder.flags, folder.specialUse ?? '']),
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
    if (!within) return this.search({ all: true });
    const found: number[] = [];
    for (const uid of cut(within)) found.push(...(await this.search({ uid })));
    return found;
  }

  async find(keys: readonly SearchKey[]): Promise<number[]> {
    const found: number[] = [];
    const hear = async (answer: RawAnswer) => {
      found.push(...foundUids(answer));
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
    return found;
  }

  async deletedUids(): Promise<number[]> {
    return this.search({ deleted: true });
  }

  private async search(query: Record<string, unknown>): Promise<number[]> {
    const answer: unknown = await this.guarded(() =>
      this.client.search(query, { uid: true, returnOptions: ['ALL'] } as unknown as { uid: boolean }),
    );
    if (Array.isArray(answer)) return answer as number[];
    if (answer === false || answer === undefined)
      throw new MailProblem('command-refused', 'The server refused to list its messages.');
    const { all } = answer as { all?: string };
    if (!all) return [];
    const set = parseSequenceSet(all);
    if (!set) throw new MailProblem('command-refused', 'The server sent a list of messages that can’t be read.');
    return [...numbersOf(set)];
  }

  async *metadata(uids: Ranges): AsyncIterable<MessageRecord> {
    const query = {
      uid: true,
      flags: true,
      size: true,
      internalDate: true,
      envelope: true,
      bodyStructure: true,
      headers: HEADER_FIELDS,
    };
    for (const range of cut(uids)) for await (const message of this.fetch(range, query)) yield recordOf(message);
  }

  async *outlines(uids: Ranges): AsyncIterable<MessageRecord> {
    const query = { uid: true, flags: true, size: true, internalDate: true };
    for (const range of cut(uids)) for await (const message of this.fetch(range, query)) yield recordOf(message);
  }

  async *flags(uids: Ranges, changedSince?: number): AsyncIterable<FlagsRecord> {
    const options = changedSince === undefined ? {} : { changedSince: BigInt(changedSince) };
    for (const range of cut(uids)) {
      for await (const { uid, flags } of this.fetch(range, { uid: true, flags: true }, options)) {
        if (!flags) continue;
        const { bits, keywords } = readFlags(flags);
        yield { uid, flags: bits, keywords };
      }
    }
  }

  private async *fetch(range: string, query: object, options: object = {}): AsyncIterable<FetchMessageObject> {
    try {
      yield* this.client.fetch(range, query, { uid: true, ...options });
    } catch (error) {
      throw commandProblem(error);
    }
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

/** Prints a set as sequence-sets of bounded length. */
function* cut(ranges: Ranges): Generator<string> {
  let text = '';
  for (const range of ranges) {
    const printed = printSequenceSet([range]);
    if (text !== '' && text.length + printed.length > LONGEST_SET) {
      yield text;
      text = '';
    }
    text += text === '' ? printed : `,${printed}`;
  }
  if (text !== '') yield text;
}
