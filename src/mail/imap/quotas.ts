import { MailProblem } from '../problem';
import type { Quota, QuotaRoot } from '../server';
import { type QuotaAnswer, readQuota } from './answers/quota';
import type { Channel } from './channel/channel';
import type { Untagged } from './channel/dialogue';
import type { Patience } from './channel/timeouts';
import { astring, joined } from './commands';

/** What a server says of limits (RFC 9208). */
export class Quotas {
  /** @param isOffered whether the server knows limits. */
  constructor(
    private readonly channel: Channel,
    private readonly isOffered: boolean,
    private readonly patience: Patience,
  ) {}

  async ofMailbox(): Promise<Quota | null> {
    const { roots, problem } = await this.told('GETQUOTAROOT', 'INBOX');
    if (problem && problem.kind !== 'command-refused') throw problem;
    const figures = roots.find(({ storage, messages }) => storage ?? messages);
    if (!figures) return null;
    const { storage, messages } = figures;
    return {
      used: storage?.used ?? null,
      limit: storage?.limit ?? null,
      messages: messages?.used ?? null,
      messageLimit: messages?.limit ?? null,
    };
  }

  rootOf(serverName: string): Promise<QuotaRoot | null> {
    return this.firstRoot('GETQUOTAROOT', serverName);
  }

  root(name: string): Promise<QuotaRoot | null> {
    return this.firstRoot('GETQUOTA', name);
  }

  private async firstRoot(command: 'GETQUOTAROOT' | 'GETQUOTA', argument: string): Promise<QuotaRoot | null> {
    const { roots, problem } = await this.told(command, argument);
    // A folder that may not be asked, or a root that is gone, has no figure; that is no reason to end a scan.
    if (problem && (problem.kind === 'connection-lost' || problem.kind === 'unreadable-answer')) throw problem;
    const [root] = roots;
    if (problem || !root) return null;
    return { name: root.name, used: root.storage?.used ?? null, limit: root.storage?.limit ?? null };
  }

  private async told(
    command: 'GETQUOTAROOT' | 'GETQUOTA',
    argument: string,
  ): Promise<{ roots: QuotaAnswer[]; problem?: MailProblem }> {
    const roots: QuotaAnswer[] = [];
    if (!this.isOffered) return { roots };
    const take = ({ word, cursor }: Untagged) => {
      if (word === 'QUOTA') roots.push(readQuota(cursor));
      return word === 'QUOTA' || word === 'QUOTAROOT';
    };
    try {
      await this.channel.run({ pieces: joined(`${command} `, astring(argument)), patience: this.patience.plain, take });
      return { roots };
    } catch (error) {
      if (error instanceof MailProblem) return { roots, problem: error };
      throw error;
    }
  }
}
