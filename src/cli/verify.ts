import { readFileSync } from 'node:fs';
import { openDatabase, rows } from '../store/database';
import type { LedgerHead } from '../store/runs/ledger-chain';
import { verifyLedger } from '../store/runs/ledger-verification';
import { Cluster } from './cluster';
import type { Purpose } from './data-folder';
import { EXIT, Stop } from './exits';
import { existingKeys, keyFileOf } from './key';
import { say } from './say';

/** A head as the page gives it out. */
type KeptHead = Pick<LedgerHead, 'entries' | 'code'>;

/**
 * Checks the ledgers of all accounts, or of one, against their chains.
 *
 * @param options.user the account's user name; all where it is undefined.
 * @param options.head file of a head that was kept, of that account.
 * @returns the exit code: not 0 where anything does not agree.
 */
export async function verify(
  data: string,
  purpose: Purpose,
  options: { user: string | undefined; head: string | undefined },
): Promise<number> {
  if (options.head && !options.user) throw new Stop(EXIT.usage, '--head needs --user: a head belongs to one account.');
  const known = options.head ? readHead(options.head) : undefined;
  const given = process.env.TAMSEL_DATABASE_URL || undefined;
  const running = given ? undefined : Cluster.running(data);
  const own = given || running ? undefined : await Cluster.start(data);
  const database = openDatabase(given ?? running ?? (own as Cluster).url('tamsel'), 1);
  try {
    const vault = existingKeys(keyFileOf(data, purpose));
    const accounts = await rows<{ id: number; user: string; host: string }>(
      database,
      'select id, user_name as "user", host from account where $1::text is null or user_name = $1 order by id',
      [options.user ?? null],
    );
    if (accounts.length === 0) throw new Stop(EXIT.failed, 'There is no such account.');
    let faults = 0;
    for (const account of accounts) {
      const verdict = await verifyLedger(database, vault, account.id, known);
      faults += verdict.faults.length;
      say(`${account.user} at ${account.host}: ${verdict.entries} entries, head ${verdict.head.code || 'none'}`);
      for (const fault of verdict.faults) say(`  ${fault}`);
    }
    say(faults === 0 ? 'Every entry is as it was written.' : `${faults} faults.`);
    return faults === 0 ? 0 : EXIT.failed;
  } finally {
    await database.end();
    await own?.stop();
  }
}

function readHead(path: string): KeptHead {
  try {
    const { entries, code } = JSON.parse(readFileSync(path, 'utf8')) as KeptHead;
    if (!Number.isInteger(entries) || !/^[0-9a-f]{64}$/.test(code)) throw new Error();
    return { entries, code };
  } catch {
    throw new Stop(EXIT.usage, `${path} is not the head of a ledger.`);
  }
}
