import { readFileSync } from 'node:fs';
import { parseArgs } from 'node:util';
import { rangesOf } from '../src/core/sets/ranges';
import { cut } from '../src/mail/imap/wire/sets';
import { fillBig } from '../test/big-folder';
import { DOVECOT_PASSWORD, DOVECOT_USER, startDovecot } from '../test/dovecot';
import { App, cleanUp } from '../test/harness';
import { Bare, timed } from './bare';
import { printResults, rounded } from './measure';

/**
 * A scattered run: every message of one large folder whose UID is odd goes to the trash, and is purged, beside bare UID MOVE,
 * STORE and UID EXPUNGE of the same sets on a twin of that folder, on the same Dovecot in the same run. Asserts nothing about time.
 */
const { values } = parseArgs({
  options: { messages: { type: 'string', default: '115000' }, octets: { type: 'string', default: '7000' } },
});
const COUNT = Number(values.messages);

async function main(): Promise<void> {
  const dovecot = await startDovecot(200_000);
  for (const name of ['Ours', 'Bare']) fillBig(dovecot, name, COUNT);
  const bare = await Bare.open(dovecot);
  await bare.command('CREATE INBOX.Bin');
  for (const name of ['Ours', 'Bare']) {
    await bare.command(`SELECT INBOX.${name}`);
    await bare.command('FETCH 1:* (UID FLAGS INTERNALDATE RFC822.SIZE)');
  }
  const app = await App.start({ env: { TAMSEL_LEASE_SECONDS: '6' } });
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.finished(`${account}/scans/last`, 900);
  // A flag keeps what bears it, so it is left out of both.
  const lot = await app.call('POST', `${account}/lots`, { where: 'folder = Ours and not flagged', label: 'Odd' });
  await app.database.query(
    `update lot set members = members * (select range_agg(int8range(id, id + 1)) from placement where uid % 2 = 1)`,
  );
  const { rows } = await app.database.query<{ uid: number }>(
    `select p.uid from placement p join folder f on f.account = p.account and f.id = p.folder and f.path = 'Bare'
     where p.uid % 2 = 1 and p.flags & 4 = 0`,
  );
  const odd = rangesOf(rows.map(({ uid }) => uid));
  const sets = [...cut(odd, Number(values.octets))];

  const asked = Date.now();
  let first = 0;
  const started = await app.call('POST', `${account}/runs`, { action: 'trash', lots: [lot.body.id] });
  const run = await timed(async () => {
    for (;;) {
      const { body } = await app.call('GET', `${account}/runs/${started.body.id}`);
      if (body.doing?.phase === 'carrying-out') first ||= (Date.now() - asked) / 1000;
      if (['done', 'failed', 'paused'].includes(body.state)) return body;
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
  });
  if (run.result.done.messages !== rows.length) throw new Error(JSON.stringify(run.result));
  await bare.command('SELECT INBOX.Bare');
  const move = await timed(async () => {
    for (const set of sets) await bare.command(`UID MOVE ${set} INBOX.Bin`);
  });
  const purge = await timed(async () => {
    const { body } = await app.call('POST', `${account}/runs`, { action: 'purge', where: '' });
    return app.finished(`${account}/runs/${body.id}`, 900);
  });
  await bare.command('SELECT INBOX.Bin');
  const expunge = await timed(async () => {
    await bare.command('UID STORE 1:* +FLAGS.SILENT (\\Deleted)');
    await bare.command('UID EXPUNGE 1:*');
  });
  bare.close();
  const peak = Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${app.workerPid}/status`, 'utf8'))?.[1]) / 1024;
  printResults([
    {
      'messages in the folder': COUNT,
      'moved, every other one': rows.length,
      'commands of the bare MOVE': sets.length,
      'first command, s after it was asked for': rounded(first),
      'run to the trash, s': rounded(run.seconds),
      'bare UID MOVE, s': rounded(move.seconds),
      'run / bare UID MOVE': rounded(run.seconds / move.seconds),
      'purge, s': rounded(purge.seconds),
      'bare STORE and UID EXPUNGE, s': rounded(expunge.seconds),
      'purge / bare': rounded(purge.seconds / expunge.seconds),
      'both / both bare': rounded((run.seconds + purge.seconds) / (move.seconds + expunge.seconds)),
      'peak memory of the worker, MB': Math.round(peak),
    },
  ]);
}

try {
  await main();
} finally {
  await cleanUp();
}
process.exit();
