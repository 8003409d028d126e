import { includes, rangesOf } from '../../../core/sets/ranges';
import type { MailServer } from '../../../mail/server';
import type { Account } from '../../../store/access/accounts';
import type { Database } from '../../../store/database';
import { promisedOfRun, sameInMail } from '../../../store/plan/file-promises';
import type { StayingFile } from '../../../store/plan/staying';
import { GenerationOpener } from '../../open-generation';

/** Messages that are looked for in place of one file. */
const MOST_LOOKED_FOR = 8;

/** Whether messages still have what a run promised that they have: other programs may have taken them. One file is asked for at a time. */
export class StayingMail {
  private promised: Promise<ReadonlySet<number>> | undefined;
  private server: Promise<MailServer> | undefined;
  private readonly opener: GenerationOpener;
  private last: Promise<unknown> = Promise.resolve();

  constructor(
    private readonly database: Database,
    private readonly account: Account,
    private readonly run: number,
    private readonly signIn: () => Promise<MailServer>,
  ) {
    this.opener = new GenerationOpener(database, account.id);
  }

  async close(): Promise<void> {
    await this.last.catch(() => undefined);
    await (await this.server?.catch(() => undefined))?.close();
  }

  /** Whether a file may go: nothing was promised of it, or a message outside the trash has it, and nothing takes it from there. */
  async letsGo(file: number): Promise<boolean> {
    this.promised ??= promisedOfRun(this.database, this.account.id, this.run, 'mail').then((files) => new Set(files));
    if (!(await this.promised).has(file)) return true;
    const looked = this.last.catch(() => undefined).then(() => this.isInMail(file));
    this.last = looked;
    return looked;
  }

  private async isInMail(file: number): Promise<boolean> {
    const candidates = (await sameInMail(this.database, this.account, [file])).get(file) ?? [];
    for (const one of candidates.slice(0, MOST_LOOKED_FOR)) if (await this.isThere(one)) return true;
    return false;
  }

  /** What a message holds never changes (RFC 9051 §2.3.1.1), so that it is enough that it is there. */
  private async isThere({ generation, uid }: StayingFile): Promise<boolean> {
    this.server ??= this.signIn();
    const server = await this.server;
    if (!(await this.opener.isThere(server, generation))) return false;
    return includes(await server.uids(rangesOf([uid])), uid);
  }
}
