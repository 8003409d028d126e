import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { setTimeout as sleep } from 'node:timers/promises';
import { parseArgs } from 'node:util';
import { fillBig } from '../big-folder';
import { DOVECOT_PASSWORD, DOVECOT_USER, startDovecot } from '../dovecot';
import { App, cleanUp, ROOT } from '../harness';

/**
 * One folder of very many messages on Debian's Dovecot, scanned with extensions hidden or not, and held to the octet against
 * what Python's imaplib is told: STATUS, SEARCH and the sum of RFC822.SIZE. Then every message whose UID is odd goes to the
 * trash, and all of it is compared again.
 *
 *     node --import tsx test/servers/sizes.ts --messages 150000 --hide ESEARCH,CONDSTORE,QRESYNC
 */
const { values } = parseArgs({
  options: {
    messages: { type: 'string', default: '150000' },
    hide: { type: 'string', default: '' },
    run: { type: 'boolean', default: false },
  },
});
const COUNT = Number(values.messages);

interface Told {
  messages: number;
  bytes: number;
  searched: number;
  flagged: number;
}

function told(port: number, folder: string): Told {
  const script = `${ROOT}/test/servers/folder_figures.py`;
  const args = [script, `${port}`, DOVECOT_USER, DOVECOT_PASSWORD, folder];
  return JSON.parse(execFileSync('python3', args, { encoding: 'utf8', maxBuffer: 2 ** 26 })) as Told;
}

async function main(): Promise<void> {
  const dovecot = await startDovecot(200_000, values.hide.split(',').filter(Boolean));
  fillBig(dovecot, 'Huge', COUNT);
  const before = told(dovecot.plainPort, 'INBOX.Huge');
  assert.equal(before.messages, COUNT);
  const app = await App.start({ env: { TAMSEL_LEASE_SECONDS: '6' } });
  const started = Date.now();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  const scanned = await app.finished(`${account}/scans/last`, 1_800);
  const seconds = (Date.now() - started) / 1000;
  assert.equal(scanned.state, 'done', JSON.stringify(scanned));
  const folder = async (path: string) =>
    (await app.call('GET', `${account}/level`)).body.folders.find((each: { path: string }) => each.path === path);
  const ours = await folder('Huge');
  assert.deepEqual([ours.messages, ours.bytes], [before.messages, before.bytes]);
  const flagged = await app.call('GET', `${account}/messages?where=flagged&limit=1`);
  assert.equal(flagged.body.total.messages, before.flagged);
  const again = await app.call('POST', `${account}/scans`, {}).then(() => app.finished(`${account}/scans/last`, 900));
  assert.equal(again.state, 'done');
  assert.deepEqual((await folder('Huge')).messages, COUNT, 'a second scan leaves it whole');
  const peak = Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${app.workerPid}/status`, 'utf8'))?.[1]) / 1024;
  process.stdout.write(
    `${JSON.stringify({ hide: values.hide, messages: COUNT, bytes: ours.bytes, seconds, peak: Math.round(peak) })}\n`,
  );
  if (!values.run) return;
  const { rows } = await app.database.query<{ id: number }>(
    'select id from placement where uid % 2 = 1 and gone_at is null and flags & 4 = 0 order by id',
  );
  const lot = await app.call('POST', `${account}/lots`, { where: 'folder = Huge', label: 'All' });
  assert.equal(lot.status, 201, JSON.stringify(lot.body));
  await app.database.query(
    `update lot set members = (select range_agg(int8range(id, id + 1)) from placement where uid % 2 = 1 and gone_at is null and flags & 4 = 0)`,
  );
  const asked = Date.now();
  const posted = await app.call('POST', `${account}/runs`, { action: 'trash', lots: [lot.body.id] });
  assert.equal(posted.status, 202, JSON.stringify(posted.body));
  let first = 0;
  for (;;) {
    const { body } = await app.call('GET', `${account}/runs/${posted.body.id}`);
    if (body.doing?.phase === 'carrying-out' || body.done.messages > 0) first ||= (Date.now() - asked) / 1000;
    if (['done', 'failed', 'paused'].includes(body.state)) {
      assert.deepEqual([body.state, body.done.messages], ['done', rows.length], JSON.stringify(body));
      break;
    }
    await sleep(first ? 1_000 : 100);
  }
  const ran = (Date.now() - asked) / 1000;
  const [rest, trash] = [told(dovecot.plainPort, 'INBOX.Huge'), told(dovecot.plainPort, 'INBOX.Trash')];
  assert.deepEqual([rest.messages, trash.messages], [COUNT - rows.length, rows.length]);
  assert.equal(rest.bytes + trash.bytes, before.bytes);
  process.stdout.write(`${JSON.stringify({ moved: rows.length, firstCommand: first, seconds: ran })}\n`);
}

try {
  await main();
} finally {
  await cleanUp();
}
process.exit();
