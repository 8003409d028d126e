import assert from 'node:assert/strict';
import { createHash } from 'node:crypto';
import { after, test } from 'node:test';
import type pg from 'pg';
import { parseCriteria } from '../../src/core/criteria/parse';
import { countOf, numbersOf, type Ranges, rangesOf } from '../../src/core/sets/ranges';
import { type Account, accountById, findOrCreateAccount } from '../../src/store/access/accounts';
import { type Queryable, transaction, transactionBySets } from '../../src/store/database';
import { guardedNow, keptAmong } from '../../src/store/index/guarded';
import { messagesOfRun } from '../../src/store/index/messages';
import {
  broughtUids,
  losePlacements,
  movePlacements,
  placementsById,
  purgePlacements,
} from '../../src/store/index/moves';
import { savePlacedAt, tombstone, uidsOf, updateFlags } from '../../src/store/index/placements';
import { addFirstGuards } from '../../src/store/plan/guards';
import { createLot, insertLots, planOf } from '../../src/store/plan/lots';
import { beginBatch, closeBatch, digestOfDone, openBatches } from '../../src/store/runs/batches';
import {
  freeze,
  leave,
  leaveForOtherReason,
  movedElsewhere,
  pendingAmong,
  pendingOf,
  type RunSelector,
} from '../../src/store/runs/frozen';
import { createRun } from '../../src/store/runs/runs';
import { cleanUp, freshDatabase } from '../harness';

after(cleanUp);

const ROWS = 200_000;
/** Every fifth message: as many ranges as members. */
const MEMBERS: Ranges = rangesOf(Array.from({ length: ROWS / 5 }, (_, index) => index * 5 + 1));
const SOME = [...numbersOf(MEMBERS)].slice(0, 5_000);

/** Rows of the large tables that a plan visited: what each scan of them gave and threw away. */
function visited(node: any): number {
  const ofLarge = node['Relation Name'] === 'placement' || node['Relation Name'] === 'message';
  const each =
    node['Actual Rows'] + (node['Rows Removed by Filter'] ?? 0) + (node['Rows Removed by Index Recheck'] ?? 0);
  const own = ofLarge && node['Node Type'] !== 'ModifyTable' ? each * node['Actual Loops'] : 0;
  return own + (node.Plans ?? []).reduce((sum: number, below: any) => sum + visited(below), 0);
}

/** A mailbox of one folder, written row by row as nobody would. */
async function mailbox(db: Queryable): Promise<Account> {
  const { id } = await findOrCreateAccount(db, { host: 'mail.example', port: 993, security: 'tls', user: 'u' });
  await db.query(`alter table placement set (autovacuum_enabled = false)`);
  await db.query(`alter table message set (autovacuum_enabled = false)`);
  await addFirstGuards(db, id);
  for (const [number, path, role] of [
    [1, 'INBOX', 'inbox'],
    [2, 'Trash', 'trash'],
  ])
    await db.query(
      `insert into folder (account, id, path, server_name, role, role_by, status_messages) values ($1, $2, $3, $3, $4, 'server', 0)`,
      [id, number, path, role],
    );
  await db.query('insert into generation (account, id, folder, uid_validity) values ($1, 1, 1, 7), ($1, 2, 2, 8)', [
    id,
  ]);
  await db.query(
    `insert into message (account, id, message_id, thread) select $1, n, n || '@m.example', n from generate_series(1, $2::int) n`,
    [id, ROWS],
  );
  await db.query(
    `insert into placement (account, id, message, folder, generation, uid, size, received)
     select $1, n, n, 1, 1, n, 1000 + n % 7, '2020-01-01' from generate_series(1, $2::int) n`,
    [id, ROWS],
  );
  await db.query('update account set next_id = $2 where id = $1', [id, ROWS + 1]);
  return (await accountById(db, id)) as Account;
}

/** The plan of a statement is told once its portal is closed, which the next one does. */
async function flush(client: Queryable): Promise<void> {
  await client.query('select 1 where $1', [true]);
}

/** Does each statement that joins a set with rows, and gives how many rows of the large tables each visited at most. */
async function visits(database: pg.Pool, account: Account): Promise<Record<string, number>> {
  const found: Record<string, number> = {};
  let name = '';
  const watch = async (client: Queryable) => {
    const own = client as pg.PoolClient;
    own.removeAllListeners('notice');
    own.on('notice', ({ message = '' }) => {
      const plan = message.indexOf('{');
      if (plan < 0 || name === '') return;
      found[name] = (found[name] ?? 0) + visited(JSON.parse(message.slice(plan)).Plan);
    });
    await client.query(`load 'auto_explain'`);
    for (const [setting, value] of Object.entries({
      log_min_duration: 0,
      log_analyze: 'on',
      log_timing: 'off',
      log_format: 'json',
      log_level: 'notice',
    }))
      await client.query(`set local auto_explain.${setting} = ${value}`);
  };
  /** Nothing of it stays. */
  const tried = async (what: string, act: (client: Queryable) => Promise<unknown>, bySets = true) => {
    const undone = new Error('undone');
    await (bySets ? transactionBySets : transaction)(database, async (client) => {
      await watch(client);
      name = what;
      await act(client);
      await flush(client);
      name = '';
      throw undone;
    }).catch((error) => {
      if (error !== undone) throw error;
    });
  };
  const now = new Date();
  const all = parseCriteria('');
  assert.ok(all.ok);
  const guarded = { sets: [], members: [], total: { messages: 0, bytes: 0 }, inTrash: { messages: 0, bytes: 0 } };
  const { id } = account;
  // As the API does: a lot, the plan, and a run of it.
  const lot = await transaction(database, async (client) => {
    const made = { label: 'Some', fate: 'trash' as const, where: null, members: MEMBERS, except: [] };
    return (await insertLots(client, account, guarded, [made]))[0] as number;
  });
  await tried('planOf', (db) => planOf(db, id), false);
  const asked = { action: 'trash' as const, label: 'Some', selector: { lots: [lot] }, fallback: null, askedBy: {} };
  const frozen = async (db: Queryable, selector: RunSelector) => {
    const made = await createRun(db, id, asked);
    const { digest, ...amount } = await freeze(db, account, made, selector, 'mail', now);
    return { made, digest, amount };
  };
  await tried('freeze', (db) => frozen(db, { lots: [lot] }), false);
  await tried('freeze ids', (db) => frozen(db, { ids: SOME }), false);
  const lotOfIds = {
    label: 'Ids',
    fate: 'trash' as const,
    selector: { ids: SOME },
    except: [],
    scope: 'mail' as const,
  };
  await transaction(database, (client) => guardedNow(client, account, now));
  await tried('createLot', (db) => createLot(db, account, { ...lotOfIds, now }), false);
  const { made: run, digest, amount } = await transaction(database, (client) => frozen(client, { lots: [lot] }));
  assert.equal(amount.messages, countOf(MEMBERS));
  const bounds = Buffer.alloc(MEMBERS.length * 16);
  for (const [index, [first, last]] of MEMBERS.entries()) {
    bounds.writeBigInt64BE(BigInt(first), index * 16);
    bounds.writeBigInt64BE(BigInt(last + 1), index * 16 + 8);
  }
  assert.equal(digest, createHash('sha256').update(bounds).digest('hex'));
  const members = SOME.map((uid) => ({ id: uid, uid, arrived: uid }));
  const batch = { method: 'move' as const, generation: 1, members, destination: 2 };
  const where = { destinationValidity: 8, destinationUidNext: 1 };
  await tried('pendingOf', (db) => pendingOf(db, id, run, 50_000));
  await tried('pendingAmong', (db) => pendingAmong(db, id, run, SOME));
  await tried('keptAmong', (db) => keptAmong(db, account, now, SOME));
  await tried('leave', (db) => leave(db, id, run, 'guarded', [...numbersOf(MEMBERS)]));
  await tried('placementsById', (db) => placementsById(db, id, SOME));
  await tried('movePlacements', (db) => movePlacements(db, id, members, { folder: 2, generation: 2 }, run));
  await tried('purgePlacements', (db) => purgePlacements(db, id, SOME, run));
  await tried('losePlacements', (db) => losePlacements(db, id, SOME));
  await tried('closeBatch', async (db) => {
    const begun = await beginBatch(db, id, run, { ...batch, ...where });
    await closeBatch(db, id, run, begun, members);
    assert.equal((await openBatches(db, id, run)).length, 0);
    await digestOfDone(db, id, run, true);
    await broughtUids(db, id, 1, 1, run);
  });
  await tried('messagesOfRun', (db) => messagesOfRun(db, id, run, ROWS / 2, 1_000), false);
  await tried('leaveForOtherReason', async (db) => {
    await leave(db, id, run, 'vanished', SOME);
    await movedElsewhere(db, id, run);
    await leaveForOtherReason(db, id, run, 'vanished', 'moved', SOME);
  });
  await tried('uidsOf', (db) => uidsOf(db, id, 1, MEMBERS));
  await tried('tombstone', (db) => tombstone(db, id, 1, MEMBERS));
  await tried('updateFlags', (db) =>
    updateFlags(
      db,
      id,
      1,
      SOME.map((uid) => ({ uid, flags: 1, keywords: [] })),
    ),
  );
  await tried('savePlacedAt', (db) => savePlacedAt(db, id, 1, MEMBERS, new Map(), now));
  await database.query('delete from run where account = $1', [id]);
  await database.query('delete from lot where account = $1', [id]);
  return found;
}

/** Statements that take a few thousand ids; the others take all of the set. */
const OF_SOME = new Set([
  'freeze ids',
  'createLot',
  'pendingAmong',
  'keptAmong',
  'placementsById',
  'movePlacements',
  'purgePlacements',
  'losePlacements',
  'closeBatch',
  'leaveForOtherReason',
  'updateFlags',
]);

test('a set of 40,000 ranges meets 200,000 rows at the cost of its own, with fresh statistics and with none', async () => {
  const { database } = await freshDatabase();
  const account = await mailbox(database);
  for (const state of ['none', 'fresh']) {
    if (state === 'fresh') await database.query('analyze');
    const found = await visits(database, account);
    for (const [what, rows] of Object.entries(found)) {
      const own = OF_SOME.has(what) ? SOME.length : MEMBERS.length;
      // A statement may look at a row again to change it, or at its message.
      assert.ok(rows <= 6 * own + 1_000, `${what} visits ${rows} rows for ${own}, with ${state} statistics`);
    }
    if (process.env.TAMSEL_TEST_LOG) console.table({ [state]: found });
  }
});
