import type { StandIn } from '../../stand-in/host';
import type { Folder, Placed } from '../../stand-in/mailbox/folder';
import type { Random } from '../../stand-in/message/random';
import type { Mirror } from './mirror';

/** Other clients at work in the same mailbox. */
export class Others {
  constructor(
    private readonly host: StandIn,
    private readonly mirror: Mirror,
    private readonly random: Random,
    private readonly folders: readonly string[],
    private readonly story: string[],
  ) {}

  /** Does one thing, at once. */
  act(): void {
    const { mailbox } = this.host;
    const folder = mailbox.folders.get(this.random.pick(this.folders));
    if (!folder) return;
    const some = this.some(folder);
    const act = this.random.pick(['move', 'remove', 'flag', 'mark', 'append', 'copy', 'validity'] as const);
    this.story.push(`others: ${act} ${some.length} in ${folder.name}`);
    this.mirror.asOthers(() => {
      switch (act) {
        case 'move': {
          const to = mailbox.folders.get(this.random.pick(this.folders));
          if (to && to !== folder && some.length > 0) mailbox.move(folder, some, to);
          return;
        }
        case 'remove':
          mailbox.expunge(folder, some);
          return;
        case 'flag':
          this.add(folder, some, this.random.pick(['flagged', 'seen', 'answered']));
          return;
        case 'mark':
          this.add(folder, some, 'deleted');
          return;
        case 'append':
          mailbox.append(
            folder,
            Buffer.from(
              `Message-ID: <${this.random.below(1e9)}@ferryline.example>\r\nSubject: came later\r\n\r\n${'x'.repeat(this.random.below(9_000))}`,
            ),
            1_700_000_000,
            [],
          );
          return;
        case 'copy': {
          const to = mailbox.folders.get(this.random.pick(this.folders.filter((name) => name !== 'Trash')));
          if (to && to !== folder && some.length > 0) mailbox.copy(some, to);
          return;
        }
        case 'validity':
          mailbox.changeUidValidity(folder.name);
          return;
      }
    });
  }

  private some(folder: Folder): Placed[] {
    const share = this.random.next() * 0.3;
    return folder.messages.filter(() => this.random.chance(share));
  }

  private add(folder: Folder, messages: readonly Placed[], flag: string): void {
    this.host.mailbox.setFlags(
      folder,
      messages.map((placed) => ({ placed, flags: new Set([...placed.flags, flag]) })),
    );
  }
}
