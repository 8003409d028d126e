import { BroughtFile } from '../../archive/brought/brought-file';
import type { BroughtMessage } from '../../archive/brought/message';
import { CutOff, Unreadable } from '../../archive/brought/unreadable';
import { statusFlags } from '../../core/brought/status-fields';
import { FLAG_BITS } from '../../core/mailbox/flags';
import { oneLine } from '../../core/text';
import { openMessage } from '../../mail/mime/message-parts';
import { contentsOf, hasFields, receivedBy } from '../../mail/mime/message-record';
import type { Account } from '../../store/access/accounts';
import type { Bag } from '../../store/archive/bags';
import {
  type Brought,
  BroughtMessages,
  broughtMessages,
  noteAllBrought,
  noteFound,
  type ReadMessage,
} from '../../store/archive/brought';
import { isAwaited } from '../../store/jobs';
import type { Turn, WorkContext } from '../context';
import type { Fence } from '../fence';
import { BagWriting } from '../save/bag-writing';
import type { Received } from '../save/intake';
import { MailIntake } from '../save/mail-intake';

/** Messages and octets that are noted together. */
const MOST_MESSAGES = 500;
const MOST_OCTETS = 16 * 2 ** 20;
/** Characters of the path of a mail folder. */
const MAX_FOLDER = 500;

/** Others of the account are done first. */
export class GivesWay extends Error {}

/** Writes the mail of a file that was saved elsewhere into a bag. */
export class BringingIn extends BagWriting {
  protected readonly intake: MailIntake;
  private readonly messages: BroughtMessages;
  private received: Received[] = [];
  private octets = 0;

  constructor(
    context: WorkContext,
    fenced: Fence,
    account: Account,
    turn: Turn,
    bag: Bag,
    wanted: () => Promise<Bag['wanted']>,
    private readonly brought: Brought,
  ) {
    super(context, fenced, account, turn, bag, wanted);
    this.intake = new MailIntake(context.database, account, bag, this.folder);
    this.messages = new BroughtMessages(account, bag.id);
  }

  /** @throws Unreadable where the file has no mail that can be read, and GivesWay. */
  protected async takeIn(): Promise<void> {
    const { context, account, bag, brought, intake } = this;
    const upload = await context.archive.upload(account.id, bag.folder).open();
    if (!upload || upload.size < brought.size)
      throw new Unreadable(
        'not-mail',
        'The file that was brought in is not on this machine any more. Bring it in again.',
      );
    try {
      const file = await BroughtFile.open(
        upload.file,
        brought.size,
        context.archive.scratchFolder,
        brought.asked ?? undefined,
      );
      try {
        await intake.begin();
        await this.readAll(file);
      } finally {
        // Nothing is written any more once this ends, however it does.
        await intake.end();
        await file.close();
      }
    } finally {
      await upload.file.close();
    }
    await this.fenced((client) => noteAllBrought(client, account.id, bag.id));
  }

  private async readAll(file: BroughtFile): Promise<void> {
    const { database } = this.context;
    const before = await broughtMessages(database, this.account.id, this.bag.id);
    let ordinal = 0;
    let passed = 0;
    const note = (done: number) => this.note({ format: file.format, quoting: file.quoting, done, passed });
    for await (const { message, done } of file.items()) {
      await this.heed();
      if (!message) passed++;
      // What was noted before is in the bag already.
      else if (++ordinal > before) await this.read(message, ordinal);
      if (this.received.length < MOST_MESSAGES && this.octets < MOST_OCTETS) continue;
      await note(done);
      if (await isAwaited(database, this.account.id)) throw new GivesWay();
    }
    if (ordinal === 0) throw new Unreadable('not-mail', 'There is no mail in this file that Tamsel can read.');
    await note(1);
  }

  private async read(message: BroughtMessage, ordinal: number): Promise<void> {
    let isCut = false;
    const whole = uncut(message.read, () => {
      isCut = true;
    });
    const { structure, octets } = await openMessage(whole);
    const record = { ...contentsOf(structure), emailId: null };
    const received = message.received ?? receivedBy(structure) ?? record.sent ?? this.bag.createdAt;
    const read: ReadMessage = {
      ...{ ordinal, record, received },
      folder: this.folderOf(message.folder),
      // Where nothing is told, it was read: people keep what they have seen.
      flags: message.flags ?? statusFlags(structure.parts[0]?.header ?? '') ?? FLAG_BITS.seen,
      keywords: [...new Set(message.keywords)].sort(),
      flawed: isCut || record.flaws.includes('structure') || !hasFields(structure),
    };
    const taken = await this.intake.receive(
      { address: record.from?.address ?? '', received, folder: read.folder, size: message.size },
      buffers(octets()),
    );
    this.messages.add(read);
    this.received.push(taken);
    this.octets += message.size;
  }

  /** Where a message goes back to: into the folder that the person named, and in that where the file says. */
  private folderOf(own: string): string {
    const { folder, name } = this.brought;
    const levels = [folder, own].flatMap((path) => path.split('/')).map(oneLine);
    const path = levels.filter((level) => level !== '').join('/');
    return (path || nameWithoutEnding(name)).slice(0, MAX_FOLDER);
  }

  private async note(found: Parameters<typeof noteFound>[3]): Promise<void> {
    const { received, messages, account, bag } = this;
    const kept = await Promise.all(received.map((one) => one.kept()));
    this.received = [];
    this.octets = 0;
    await this.write(async (client) => {
      if (kept.length > 0) await messages.write(client, kept);
      await noteFound(client, account.id, bag.id, found);
    });
  }
}

/** `Inbox.mbox` is Inbox; `old-computer.tar.gz` is old-computer. */
function nameWithoutEnding(name: string): string {
  const plain = oneLine(name.replaceAll('/', ' '));
  return plain.replace(/(\.(mbox|mbx|eml|zip|tar|tgz|gz)){1,2}$/i, '') || plain || 'mail';
}

/** Octets as far as they come; of a message that is cut off that is all that is kept. */
function uncut(read: () => AsyncIterable<Uint8Array>, onCut: () => void): () => AsyncIterable<Uint8Array> {
  return async function* () {
    try {
      yield* read();
    } catch (error) {
      if (!(error instanceof CutOff)) throw error;
      onCut();
    }
  };
}

async function* buffers(octets: AsyncIterable<Uint8Array>): AsyncGenerator<Buffer> {
  for await (const piece of octets) yield Buffer.from(piece.buffer, piece.byteOffset, piece.length);
}
