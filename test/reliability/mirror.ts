import { numbersOf } from '../../src/core/sets/ranges';
import type { Change } from '../../stand-in/mailbox/journal';
import type { Mailbox } from '../../stand-in/mailbox/mailbox';
import type { Item } from '../../stand-in/message/item';

/** Who changed the mailbox: the sessions of the product under test, or everybody else. */
export type Actor = 'ours' | 'others';

/** One physical message from when it came into being until it is gone, wherever it is moved. */
export interface Instance {
  /** The same for all messages that are alike to the octet. */
  content: Item;
  size: number;
  received: number;
  folder: string;
  uid: number;
  bornBy: Actor | undefined;
  gone: boolean;
  /** Flags as others alone would have left them. */
  othersFlags: Set<string>;
  flags: Set<string>;
  /** What happened to it, in order. */
  history: { actor: Actor; act: 'move' | 'remove'; from: string; to?: string }[];
}

/** A plain model of the mailbox, kept by being told every change and by whom. Knows nothing of the product. */
export class Mirror {
  readonly instances: Instance[] = [];
  private readonly folders = new Map<string, Map<number, Instance>>();
  private readonly validities = new Map<string, number>();
  /** Every address that any message ever had. */
  private readonly addresses = new Map<string, Instance>();
  private actor: Actor = 'ours';

  constructor(private readonly mailbox: Mailbox) {
    for (const [name, folder] of mailbox.folders) {
      this.validities.set(name, folder.uidValidity);
      const here = new Map<number, Instance>();
      this.folders.set(name, here);
      for (const { uid, item, received, flags } of folder.messages)
        here.set(uid, this.born(item, received, name, uid, flags, undefined));
    }
    mailbox.watcher = (changes) => this.hear(changes);
  }

  /** Does something in the name of other clients. */
  asOthers(act: () => void): void {
    this.actor = 'others';
    try {
      act();
    } finally {
      this.actor = 'ours';
    }
  }

  /** What had this UID in a folder of this UIDVALIDITY, whatever became of it. */
  at(folder: string, uidValidity: number, uid: number): Instance | undefined {
    return this.addresses.get(`${folder} ${uidValidity} ${uid}`);
  }

  private note(instance: Instance): void {
    const { folder, uid } = instance;
    this.addresses.set(`${folder} ${this.validities.get(folder)} ${uid}`, instance);
  }

  private born(
    item: Item,
    received: number,
    folder: string,
    uid: number,
    flags: Iterable<string>,
    bornBy: Actor | undefined,
  ): Instance {
    const instance: Instance = {
      content: item,
      size: item.size,
      received,
      folder,
      uid,
      bornBy,
      gone: false,
      othersFlags: new Set(flags),
      flags: new Set(flags),
      history: [],
    };
    this.instances.push(instance);
    this.note(instance);
    return instance;
  }

  private hear(changes: readonly Change[]): void {
    const [first, second] = changes;
    if (first?.op === 'remove' && second?.op === 'add') {
      const uids = [...numbersOf(first.uids)];
      const from = this.of(first.folder);
      const to = this.of(second.folder);
      for (const [index, { uid }] of second.placed.entries()) {
        const instance = from.get(uids[index] as number) as Instance;
        from.delete(instance.uid);
        instance.history.push({ actor: this.actor, act: 'move', from: first.folder, to: second.folder });
        Object.assign(instance, { folder: second.folder, uid });
        to.set(uid, instance);
        this.note(instance);
      }
      return;
    }
    for (const change of changes) this.hearOne(change);
  }

  private hearOne(change: Change): void {
    switch (change.op) {
      case 'add':
        for (const { uid, ref, received, flags } of change.placed)
          this.of(change.folder).set(
            uid,
            this.born(this.mailbox.itemOf(ref), received, change.folder, uid, flags, this.actor),
          );
        break;
      case 'remove':
        for (const uid of numbersOf(change.uids)) this.remove(change.folder, uid);
        break;
      case 'flags':
        for (const uid of numbersOf(change.uids)) this.flag(this.of(change.folder).get(uid), new Set(change.flags));
        break;
      case 'create':
        this.folders.set(change.folder, new Map());
        this.validities.set(change.folder, change.uidValidity);
        break;
      case 'delete':
        for (const uid of [...this.of(change.folder).keys()]) this.remove(change.folder, uid);
        this.folders.delete(change.folder);
        break;
      case 'validity': {
        const rows = [...this.of(change.folder).values()].sort((a, b) => a.uid - b.uid);
        const renumbered = new Map<number, Instance>();
        this.validities.set(change.folder, change.uidValidity);
        for (const [index, instance] of rows.entries()) {
          instance.uid = index + 1;
          this.note(instance);
          renumbered.set(instance.uid, instance);
        }
        this.folders.set(change.folder, renumbered);
        break;
      }
    }
  }

  private remove(folder: string, uid: number): void {
    const instance = this.of(folder).get(uid);
    if (!instance) return;
    this.of(folder).delete(uid);
    instance.gone = true;
    instance.history.push({ actor: this.actor, act: 'remove', from: folder });
  }

  private flag(instance: Instance | undefined, flags: Set<string>): void {
    if (!instance) return;
    if (this.actor === 'others') {
      for (const flag of flags) if (!instance.flags.has(flag)) instance.othersFlags.add(flag);
      for (const flag of instance.flags) if (!flags.has(flag)) instance.othersFlags.delete(flag);
    }
    instance.flags = flags;
  }

  private of(folder: string): Map<number, Instance> {
    let here = this.folders.get(folder);
    if (!here) {
      here = new Map();
      this.folders.set(folder, here);
    }
    return here;
  }
}
