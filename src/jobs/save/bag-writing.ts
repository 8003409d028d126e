import type { Bag as BagFolder } from '../../archive/bag';
import type { Account } from '../../store/access/accounts';
import { enterArchived } from '../../store/archive/archived';
import {
  type Bag,
  bagById,
  cancelFilesOfBag,
  leaveFiles,
  noteChecked,
  notePart,
  updateBag,
} from '../../store/archive/bags';
import type { Queryable } from '../../store/database';
import { tell } from '../../store/events';
import { enqueue } from '../../store/jobs';
import type { Turn, WorkContext } from '../context';
import type { Fence } from '../fence';
import { Stopped } from '../stopped';
import type { Intake, ReadBack } from './intake';
import { indexLines, infoOf } from './seal';

/** Milliseconds between two announcements of what is done, and between two looks at what the person wants. */
const ANNOUNCED_MS = 400;
/** And at least so many times as long as an announcement took. */
const ANNOUNCED_TIMES = 20;
const HEEDED_MS = 200;

/**
 * Writes a bag: what it is to hold is taken in, written, and flushed to the disk; then the bag gets its name; then every octet is
 * read back and compared with what was taken in. Only what was read back as it was counts as checked. Killed anywhere, it goes on
 * with what was noted.
 */
export abstract class BagWriting {
  protected readonly folder: BagFolder;
  private announcedNext = 0;
  private heededAt = 0;

  /** @param wanted whether somebody wants it to stop. */
  constructor(
    protected readonly context: WorkContext,
    protected readonly fenced: Fence,
    protected readonly account: Account,
    private readonly turn: Turn,
    protected readonly bag: Bag,
    private readonly wanted: () => Promise<Bag['wanted']>,
  ) {
    this.folder = context.archive.bag(account.id, bag.folder);
  }

  /** Where what is taken in goes. */
  protected abstract get intake(): Intake;

  /** Takes in what the bag is to hold and was not dealt with. */
  protected abstract takeIn(): Promise<void>;

  /** @throws Stopped, and DiskFull. */
  async fill(): Promise<void> {
    // Who was killed while it dropped what was saved does that again.
    const wanted = await this.wanted();
    if (wanted) throw new Stopped(wanted);
    await this.says('running');
    if (!(await this.folder.isWhole())) {
      await this.takeIn();
      await this.seal();
    }
    await this.says('checking');
    await this.readBack();
  }

  /** What was saved goes: nobody needs what was not read back to its end, and no page would show it. */
  async drop(): Promise<void> {
    await this.folder.erase();
    await this.fenced((client) => cancelFilesOfBag(client, this.account.id, this.bag.id));
  }

  /** @param also what is written in the same transaction. */
  async end(
    state: 'done' | 'paused' | 'cancelled' | 'failed',
    problem: Bag['problem'] = null,
    also: (client: Queryable) => Promise<void> = async () => undefined,
  ): Promise<void> {
    await this.fenced(async (client) => {
      const isChecked = state === 'done';
      const { account, bag } = this;
      await updateBag(client, account.id, bag.id, { state, wanted: null, attempts: 0, problem, isChecked });
      if (isChecked && bag.place === 'here') {
        await enterArchived(client, account.id, bag.id);
        await enqueue(client, account.id, 'read-bag', bag.id);
      }
      await also(client);
      await this.announce(client, true);
    });
  }

  private async seal(): Promise<void> {
    const { id, form } = this.bag;
    const { intake, fenced, account } = this;
    const index = await this.folder.write('index.jsonl', indexLines(intake));
    async function* files() {
      yield index;
      for await (const file of intake.files()) {
        if (form === 'mbox') await fenced((client) => notePart(client, account.id, id, file));
        yield file;
      }
    }
    await this.folder.seal(files(), infoOf(this.bag, new Date()));
  }

  /** Reads every file back from the disk. A bag that the person downloads is only a means: what they hand in is checked. */
  private async readBack(): Promise<void> {
    let writing = Promise.resolve();
    try {
      for await (const read of this.intake.readBack()) {
        await writing;
        // The next ones are read meanwhile.
        writing = this.noteRead(read);
        writing.catch(() => undefined);
        await this.heed();
      }
    } finally {
      await writing;
    }
  }

  private noteRead({ equal, left }: ReadBack): Promise<void> {
    return this.write(async (client) => {
      if (left.length > 0) await leaveFiles(client, this.account.id, this.bag.id, left);
      if (this.bag.place === 'here') await noteChecked(client, this.account.id, this.bag.id, equal);
    });
  }

  /** Stops where a person wants that; asked no more often than once in a while. */
  protected async heed(): Promise<void> {
    if (Date.now() - this.heededAt < HEEDED_MS) return;
    const wanted = await this.wanted();
    this.heededAt = Date.now();
    if (wanted) throw new Stopped(wanted);
  }

  private async says(state: 'running' | 'checking'): Promise<void> {
    await this.fenced(async (client) => {
      await updateBag(client, this.account.id, this.bag.id, { state, problem: null });
      await this.announce(client, true);
    });
  }

  /** Writes down what became of a file. */
  protected async write(act: (client: Queryable) => Promise<void>): Promise<void> {
    await this.fenced(async (client) => {
      await act(client);
      await this.turn.progressed(client);
      await this.announce(client);
    });
  }

  private async announce(client: Queryable, surely = false): Promise<void> {
    if (!surely && Date.now() < this.announcedNext) return;
    const begun = Date.now();
    await tell(client, this.account.id, 'bag', await bagById(client, this.account.id, this.bag.id));
    // What is counted of a large bag takes a while.
    this.announcedNext = Date.now() + Math.max(ANNOUNCED_MS, (Date.now() - begun) * ANNOUNCED_TIMES);
  }
}
