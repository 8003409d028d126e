import { readablePath, repeatsMail, roleOfUse } from '../../core/mailbox/folders';
import type { FolderStatus, ListedFolder } from '../server';
import { type ListedName, ListingAnswer } from './answers/listing';
import type { Channel } from './channel/channel';
import type { Command, Sent } from './channel/dialogue';
import { ignoreRefusal, unreadable } from './channel/faults';
import { specialUseOfName } from './channel/library';
import type { Patience } from './channel/timeouts';
import { astring, joined } from './commands';
import type { FolderNames } from './folder-names';

/** Commands that are sent before the answer to the first of them is waited for. */
const MAX_UNDER_WAY = 32;
/** Folders of a mailbox, beyond which a list of them does not end. */
const MAX_FOLDERS = 100_000;

/** The folders of a mailbox, and their figures. */
export class FolderList {
  /** @param personalPrefix how the names of the user's own folders begin (RFC 2342). */
  constructor(
    private readonly channel: Channel,
    private readonly names: FolderNames,
    private readonly has: (capability: string) => boolean,
    private readonly patience: Patience,
    private readonly personalPrefix: string,
  ) {}

  async all(): Promise<ListedFolder[]> {
    const answer = await this.list();
    if (!answer.names.has('INBOX')) throw unreadable('The server’s list of folders does not hold the inbox.');
    const listed = [...answer.names.values()].filter(({ attributes }) => !attributes.has('\\nonexistent'));
    const selectable = listed.filter(({ attributes }) => !attributes.has('\\noselect'));
    await this.addStatuses(
      answer,
      selectable.filter(({ wire }) => !answer.statuses.has(wire)),
    );
    const proposals = proposedRoles(selectable, this.names);
    return listed.map((folder) => this.listedFolder(folder, answer.statuses, proposals));
  }

  /** All names, with their figures where the server gives both at once; with less of a request where it takes no more. */
  private async list(): Promise<ListingAnswer> {
    const use = this.has('SPECIAL-USE') ? ['SPECIAL-USE'] : [];
    const requests = [
      ...(this.has('LIST-STATUS') ? [[...use, `STATUS (${this.figures})`]] : []),
      ...(use.length > 0 && this.has('LIST-EXTENDED') ? [use] : []),
      [],
    ];
    for (const [index, request] of requests.entries()) {
      const answer = new ListingAnswer();
      const returned = request.length > 0 ? ` RETURN (${request.join(' ')})` : '';
      const sent = this.channel.send({
        pieces: [`LIST "" "*"${returned}`],
        // Figures of a large folder that nobody asked for before take minutes.
        patience: this.patience.open,
        maxResponses: 2 * MAX_FOLDERS,
        take: (response) => answer.take(response),
      });
      try {
        await this.channel.done(sent);
        return answer;
      } catch (error) {
        if (index === requests.length - 1 || sent.status?.kind !== 'BAD') throw error;
      }
    }
    throw new Error('A list is asked for at least once.');
  }

  private get figures(): string {
    const figures = ['MESSAGES', 'UIDNEXT', 'UIDVALIDITY'];
    if (this.has('STATUS=SIZE') || this.has('IMAP4REV2')) figures.push('SIZE');
    if (this.has('CONDSTORE')) figures.push('HIGHESTMODSEQ');
    return figures.join(' ');
  }

  /** Asks for the figures of folders of which none came. One that refuses has none. */
  private async addStatuses(answer: ListingAnswer, folders: readonly ListedName[]): Promise<void> {
    await this.each(
      folders,
      ({ wire }) => this.statusCommand(wire, (response) => answer.take(response)),
      async (sent) => {
        await this.channel.done(sent).catch(ignoreRefusal);
      },
    );
  }

  private statusCommand(wire: string, take: Command['take'], also = ''): Command {
    const pieces = joined('STATUS ', astring(wire), ` (${this.figures}${also})`);
    return { pieces, patience: this.patience.open, ...(take ? { take } : {}) };
  }

  async status(serverName: string, withUnseen: boolean): Promise<FolderStatus | null> {
    const answer = new ListingAnswer();
    const also = withUnseen ? ' UNSEEN' : '';
    try {
      await this.channel.run(this.statusCommand(serverName, (response) => answer.take(response), also));
    } catch (error) {
      ignoreRefusal(error);
      return null;
    }
    const status = answer.statuses.get(serverName);
    if (!status) throw unreadable('The server’s figures of a folder could not be read.');
    return status;
  }

  /** Sends a command for each, several ahead of their answers, and gives each as it was sent, in their order. */
  private async each<T>(
    items: readonly T[],
    command: (item: T) => Command,
    answered: (sent: Sent, item: T) => Promise<void>,
  ): Promise<void> {
    const open: Sent[] = [];
    let sent = 0;
    for (const item of items) {
      for (; sent < items.length && open.length < MAX_UNDER_WAY; sent++)
        open.push(this.channel.send(command(items[sent] as T)));
      await answered(open.shift() as Sent, item);
    }
  }

  private listedFolder(
    { wire, attributes, delimiter }: ListedName,
    statuses: ReadonlyMap<string, FolderStatus>,
    proposals: ReadonlyMap<string, string>,
  ): ListedFolder {
    const isInbox = wire === 'INBOX';
    const role = isInbox ? 'inbox' : rolesIn(attributes);
    const name = this.names.readable(wire);
    const selectable = !attributes.has('\\noselect');
    return {
      serverName: wire,
      path: readablePath(name, delimiter, this.personalPrefix),
      delimiter,
      role,
      proposed: role ? null : roleOfUse(proposals.get(wire)),
      // A name alone makes no view: what a person called so is counted.
      repeats: repeatsMail(attributes),
      selectable,
      status: selectable ? (statuses.get(wire) ?? null) : null,
    };
  }
}

function rolesIn(attributes: ReadonlySet<string>) {
  for (const attribute of attributes) {
    const role = roleOfUse(attribute);
    if (role) return role;
  }
  return null;
}

/** What the names of folders tell, as attributes of RFC 6154; for each use the folder that is least deep. */
function proposedRoles(folders: readonly ListedName[], names: FolderNames): Map<string, string> {
  const best = new Map<string, { wire: string; depth: number }>();
  for (const { wire, delimiter } of folders) {
    const name = names.readable(wire);
    const levels = delimiter ? name.split(delimiter) : [name];
    const use = specialUseOfName(levels.at(-1) ?? '');
    const known = use ? best.get(use) : undefined;
    if (use && (!known || levels.length < known.depth)) best.set(use, { wire, depth: levels.length });
  }
  return new Map([...best].map(([use, { wire }]) => [wire, use]));
}
