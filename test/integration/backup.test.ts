import assert from 'node:assert/strict';
import { execFileSync, spawnSync } from 'node:child_process';
import { chmodSync, existsSync, readFileSync, renameSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { Cluster, freePort } from '../../src/cli/cluster';
import { openDatabase } from '../../src/store/database';
import { App, cleanUp, ROOT, startStandIn, temporaryFolder, tinyScenario } from '../harness';

after(cleanUp);

/** Where keys lie that belong to data folders of these tests. */
const KEYS = temporaryFolder();

/** Where what is started listens: somebody may use the usual port. */
const PORT = `${await freePort()}`;

function tamsel(args: string[], env: NodeJS.ProcessEnv): { code: number | null; said: string } {
  const { status, stdout, stderr } = spawnSync(join(ROOT, 'tamsel'), args, {
    env: {
      ...process.env,
      TAMSEL_DATABASE_URL: '',
      TAMSEL_KEY_FILE: '',
      XDG_CONFIG_HOME: KEYS,
      TAMSEL_PORT: PORT,
      ...env,
    },
    encoding: 'utf8',
  });
  return { code: status, said: `${stdout}${stderr}` };
}

test('a backup holds database and key; restored into an empty folder its ledgers are as they were written', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const run = await app.ran(account, { action: 'trash', where: 'folder = Offers and not guarded' });
  await app.ran(account, { action: 'purge', run: run.id });
  const kept = join(temporaryFolder(), 'kept');
  const running = { TAMSEL_DATABASE_URL: app.databaseUrl, TAMSEL_KEY_FILE: app.keyFile };
  const written = tamsel(['backup', kept], running);
  assert.equal(written.code, 0, written.said);
  assert.equal(readFileSync(join(kept, 'key'), 'utf8'), readFileSync(app.keyFile, 'utf8'));
  for (const part of ['key', 'database.dump', 'backup.json'])
    assert.equal(statSync(join(kept, part)).mode & 0o77, 0, part);
  assert.match(tamsel(['backup', kept], running).said, /is not empty/);
  assert.equal(tamsel(['backup', join(kept, 'other')], { ...running, TAMSEL_KEY_FILE: join(kept, 'none') }).code, 16);
  assert.ok(!existsSync(join(kept, 'none')), 'no key is made where one is missing');

  const data = join(temporaryFolder(), 'data');
  const restored = tamsel(['restore', kept], { TAMSEL_DATA: data });
  assert.equal(restored.code, 0, restored.said);
  const key = join(KEYS, 'tamsel', `${readFileSync(join(data, 'instance'), 'utf8').trim()}.key`);
  assert.equal(readFileSync(key, 'utf8'), readFileSync(app.keyFile, 'utf8'));
  assert.equal(statSync(key).mode & 0o77, 0);
  assert.ok(!existsSync(join(data, 'key')), 'whoever copies the data folder has no key');
  assert.match(restored.said, /4 entries[\s\S]*Every entry is as it was written/);
  assert.equal(tamsel(['restore', kept], { TAMSEL_DATA: data }).code, 2, 'what is there is not written over');
  assert.match(tamsel(['restore', temporaryFolder()], { TAMSEL_DATA: join(data, 'x') }).said, /is no backup/);

  // What was restored is all that was there.
  const cluster = await Cluster.start(data);
  const database = openDatabase(cluster.url('tamsel'), 1);
  const count = async (of: typeof database, table: string) =>
    (await of.query(`select count(*)::int as n from ${table}`)).rows[0].n;
  for (const table of ['placement', 'message', 'run', 'run_batch', 'ledger_entry', 'credential', 'guard'])
    assert.equal(await count(database, table), await count(app.database, table), table);

  // A database of a newer version is left alone.
  await database.query(`insert into migration (name) values ('9999_of_the_future.sql')`);
  await database.end();
  await cluster.stop();
  const newer = tamsel(['start'], { TAMSEL_DATA: data });
  assert.equal(newer.code, 19, newer.said);
  assert.match(newer.said, /newer version/);

  // Data whose key is missing is not given another.
  renameSync(key, `${key}.away`);
  const keyless = tamsel(['start'], { TAMSEL_DATA: data });
  assert.equal(keyless.code, 16, keyless.said);
  assert.match(keyless.said, /key file .* is missing/);
  assert.ok(!existsSync(key));

  // A backup that was altered is found when it is restored.
  const altered = join(temporaryFolder(), 'altered');
  execFileSync('cp', ['-a', kept, altered]);
  writeFileSync(join(altered, 'key'), `${'0'.repeat(64)}\n`);
  chmodSync(join(altered, 'key'), 0o600);
  const refused = tamsel(['restore', altered], { TAMSEL_DATA: join(temporaryFolder(), 'data') });
  assert.equal(refused.code, 1, refused.said);
  assert.match(refused.said, /key that is not in the key file/);
});
