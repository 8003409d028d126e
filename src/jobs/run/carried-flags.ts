import { type FlagSet, flagChanges, isEmpty } from '../../core/mailbox/flags';
import { rangesOf } from '../../core/sets/ranges';
import { MailProblem } from '../../mail/problem';
import type { FlagsRecord, MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import type { Database } from '../../store/database';
import { type CarriedFlags, carriedFlags, noteCarriedFlags, originalsInTrash } from '../../store/runs/carried-flags';
import type { LeftReason, Run } from '../../store/runs/runs';
import type { Fence } from '../fence';
import type { Folders } from './folders';
import type { Routed } from './wave';

/**
 * Copies flag changes from originals to their replacements: flags and keywords that another program set or removed on an original after
 * its replacement was made. Changes on the replacement itself are kept.
 */
export class FlagCarrier {
  constructor(
    private readonly database: Database,
    private readonly account: Account,
    private readonly run: Run,
    private readonly server: MailServer,
    private readonly folders: Folders,
    private readonly fenced: Fence,
  ) {}

  /**
   * Reads the flags of originals and replacements right before the originals are moved. All are in one folder.
   *
   * @returns originals that must stay, with the reason: the replacement is gone, or refuses the flags.
   */
  async beforeTheyGo(generation: number, members: readonly Routed[]): Promise<Map<number, LeftReason>> {
    const left = new Map<number, LeftReason>();
    const ids = members.map(({ id }) => id);
    const replacements = await carriedFlags(this.database, this.account.id, this.run.id, ids);
    const uids = rangesOf([...members, ...replacements.values()].map(({ uid }) => uid));
    const { reason, flags } = await this.folders.flags(generation, uids);
    // The folder can't be used. The move that follows finds that out too, and leaves the messages.
    if (reason !== undefined) return left;
    const now = new Map(flags.map((record) => [record.uid, record]));
    const changed: [CarriedFlags, FlagsRecord][] = [];
    for (const { id, uid } of members) {
      const replacement = replacements.get(id);
      const original = now.get(uid);
      if (!replacement || !now.has(replacement.uid)) left.set(id, 'changed');
      else if (original) changed.push([replacement, original]);
    }
    for (const id of await this.carry(changed)) left.set(id, 'refused');
    return left;
  }

  /** Carries flags that were changed after `beforeTheyGo` and before the move: the originals have them in the trash. */
  async afterTheyWent(): Promise<void> {
    for await (const pack of originalsInTrash(this.database, this.account.id, this.run.id)) {
      const inTrash = new Map<number, FlagsRecord>();
      for (const generation of new Set(pack.map(({ trash }) => trash.generation))) {
        const here = pack.filter(({ trash }) => trash.generation === generation);
        const { flags } = await this.folders.flags(generation, rangesOf(here.map(({ trash }) => trash.uid)));
        const byUid = new Map(flags.map((record) => [record.uid, record]));
        for (const { original, trash } of here) {
          const record = byUid.get(trash.uid);
          if (record) inTrash.set(original, record);
        }
      }
      for (const generation of new Set(pack.map((one) => one.generation))) {
        const here = pack.filter((one) => one.generation === generation && inTrash.has(one.original));
        if ((await this.folders.open(generation)) !== undefined) continue;
        await this.carry(here.map((one) => [one, inTrash.get(one.original) as FlagsRecord]));
      }
    }
  }

  /** Applies flag changes to replacements in the open folder. Returns the originals whose replacements refused them. */
  private async carry(all: readonly (readonly [CarriedFlags, FlagSet])[]): Promise<number[]> {
    const refused: number[] = [];
    const carried: { original: number; flags: FlagSet }[] = [];
    for (const [{ original, uid, flags }, now] of all) {
      const changes = flagChanges(flags, now);
      if (!changes) continue;
      try {
        if (!isEmpty(changes.added)) await this.server.changeFlags([[uid, uid]], changes.added, true);
        if (!isEmpty(changes.removed)) await this.server.changeFlags([[uid, uid]], changes.removed, false);
        carried.push({ original, flags: now });
      } catch (error) {
        if (!(error instanceof MailProblem) || !REFUSALS.has(error.kind)) throw error;
        refused.push(original);
      }
    }
    if (carried.length > 0)
      await this.fenced((client) => noteCarriedFlags(client, this.account.id, this.run.id, carried));
    return refused;
  }
}

const REFUSALS = new Set<MailProblem['kind']>(['command-refused', 'read-only']);
