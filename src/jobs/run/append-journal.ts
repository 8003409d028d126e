import {
  type Append,
  type AppendTable,
  beginAppends,
  forgetAppend,
  noteArrived,
  noteStanding,
} from '../../store/runs/appends';
import type { Fence } from '../fence';
import type { Journal } from './appender';

/** Writes down in a table what a run appends, as long as the lease is held. */
export class AppendJournal implements Journal {
  constructor(
    private readonly table: AppendTable,
    private readonly account: number,
    private readonly run: number,
    private readonly fenced: Fence,
  ) {}

  begin(place: { generation: number; uidNext: number }, messages: readonly Append[]): Promise<void> {
    return this.fenced((client) => beginAppends(client, this.table, this.account, this.run, place, messages));
  }

  arrived(id: number, uid: number | undefined): Promise<void> {
    return this.fenced(async (client) => {
      if (uid !== undefined) await noteArrived(client, this.table, this.account, this.run, id, uid);
    });
  }

  standing(generation: number, messages: readonly { id: number; uid: number }[]): Promise<void> {
    return this.fenced((client) => noteStanding(client, this.table, this.account, this.run, generation, messages));
  }

  forget(id: number): Promise<void> {
    return this.fenced((client) => forgetAppend(client, this.table, this.account, this.run, id));
  }
}
