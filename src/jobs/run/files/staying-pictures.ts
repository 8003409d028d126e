import type { DavClient } from '../../../dav/client';
import { look } from '../../../dav/transfer';
import type { Queryable } from '../../../store/database';
import { promisedOfRun } from '../../../store/plan/file-promises';
import { alikeThatStay } from '../../../store/plan/space-pictures';
import { runFiles } from '../../../store/runs/file-runs';
import { isAsItWas } from './sender';

/** Pictures that are looked for in place of one. */
const MOST_LOOKED_FOR = 4;

/** Whether what a run promised to stay of its pictures is still there: another program may have taken it. */
export class StayingPictures {
  /** By picture, those nearly alike that stay. */
  private stay: Promise<Map<number, number[]>> | undefined;
  /** Whether a picture that stays was found on the server, once in a run. */
  private readonly looks = new Map<number, Promise<boolean>>();

  constructor(
    private readonly database: Queryable,
    private readonly client: DavClient,
    private readonly account: number,
    private readonly run: number,
  ) {}

  /** Whether a picture may go: nothing was promised of it, or one nearly alike is there as it was. */
  async letsGo(file: number): Promise<boolean> {
    this.stay ??= this.read();
    const others = (await this.stay).get(file);
    if (!others) return true;
    for (const other of others.slice(0, MOST_LOOKED_FOR)) {
      const isThere = this.looks.get(other) ?? this.isThere(other);
      this.looks.set(other, isThere);
      if (await isThere) return true;
    }
    return false;
  }

  private async read(): Promise<Map<number, number[]>> {
    const promised = await promisedOfRun(this.database, this.account, this.run, 'pictures');
    return promised.length === 0 ? new Map() : alikeThatStay(this.database, this.account, promised);
  }

  private async isThere(id: number): Promise<boolean> {
    const [file] = await runFiles(this.database, this.account, [id]);
    if (file?.state !== 'there') return false;
    const now = await look(this.client, file.path);
    return now !== undefined && isAsItWas(now, file);
  }
}
