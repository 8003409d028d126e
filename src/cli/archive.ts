import { join } from 'node:path';
import pino from 'pino';
import { ArchivePlace } from '../archive/place';
import { checkBag } from '../jobs/archive/check-bag';
import { accountById } from '../store/access/accounts';
import { bagById } from '../store/archive/bags';
import { askForReading } from '../store/archive/fixity';
import { openDatabase, rows, transaction } from '../store/database';
import { Cluster } from './cluster';
import { EXIT, Stop } from './exits';
import { say } from './say';

/**
 * Reads every octet of all bags that stay on this machine again, or of those of one account, while an instance runs or not.
 *
 * @returns the exit code: not 0 where anything is not what was saved.
 */
export async function checkArchive(data: string, user: string | undefined): Promise<number> {
  const given = process.env.TAMSEL_DATABASE_URL || undefined;
  const running = given ? undefined : Cluster.running(data);
  const own = given || running ? undefined : await Cluster.start(data);
  const database = openDatabase(given ?? running ?? (own as Cluster).url('tamsel'), 2);
  const archive = ArchivePlace.at(process.env.TAMSEL_ARCHIVE_DIR || join(data, 'archive'));
  const context = { database, archive, log: pino({ level: 'silent' }) };
  try {
    const bags = await rows<{ account: number; id: number; user: string; host: string }>(
      database,
      `select b.account, b.id, a.user_name as "user", a.host from bag b join account a on a.id = b.account
       where b.place = 'here' and b.state = 'done' and ($1::text is null or a.user_name = $1) order by b.account, b.id`,
      [user ?? null],
    );
    if (bags.length === 0 && user !== undefined)
      throw new Stop(EXIT.failed, 'This account has no bags on this machine.');
    let damaged = 0;
    for (const { account: owner, id, user: name, host } of bags) {
      const account = await accountById(database, owner);
      const before = await bagById(database, owner, id);
      if (!account || !before) continue;
      await askForReading(database, owner, id);
      const fenced = <T>(act: Parameters<typeof transaction<T>>[1]) => transaction(database, act);
      const turn = { claimLarge: () => true, progressed: async () => undefined };
      await checkBag(context, account, before, fenced, turn, false);
      const bag = await bagById(database, owner, id);
      const bad = (bag?.damaged.files ?? 0) + (bag?.tagsDamaged.length ?? 0);
      damaged += bad;
      const verdict = bad === 0 ? `${bag?.checked.files} equal` : `${bad} DAMAGED`;
      say(`${name} at ${host}: bag ${id}, ${before.label || before.folder}: ${verdict}`);
    }
    const all = bags.length === 1 ? '1 bag' : `${bags.length} bags`;
    say(damaged === 0 ? `Every octet of ${all} is what was saved.` : `${damaged} are damaged. See Archive.`);
    return damaged === 0 ? 0 : EXIT.failed;
  } finally {
    await database.end();
    await own?.stop();
  }
}
