import { parseArgs } from 'node:util';
import { METADATA } from '../src/mail/imap/fetch/record';
import { fillMany } from '../test/big-folder';
import { DOVECOT_PASSWORD, DOVECOT_USER, startDovecot } from '../test/dovecot';
import { App, cleanUp } from '../test/harness';
import { Bare, timed } from './bare';
import { printResults, rounded } from './measure';

/**
 * Many folders of a few messages each: their scan, a run of one message out of each, and putting these back, beside the bare
 * commands for the same on twins, on the same Dovecot in the same run. Asserts nothing about time.
 */
const { values } = parseArgs({
  options: { folders: { type: 'string', default: '3000' }, each: { type: 'string', default: '5' } },
});
const FOLDERS = Number(values.folders);
const EACH = Number(values.each);

async function main(): Promise<void> {
  const dovecot = await startDovecot(200_000);
  fillMany(dovecot, 'Ours', FOLDERS, EACH);
  const bare = await Bare.open(dovecot);
  await bare.command('CREATE INBOX.Bin');
  const folders = Array.from({ length: FOLDERS }, (_, index) => index);
  const read = () =>
    timed(async () => {
      for (const index of folders) {
        await bare.command(`SELECT INBOX.Ours.f${index}`);
        await bare.command(`UID FETCH 1:* (${METADATA})`);
      }
    });
  // Dovecot builds its caches at the first look, which is no part of what is compared.
  await read();
  const drain = await read();
  const app = await App.start({ env: { TAMSEL_LEASE_SECONDS: '6' } });
  let account = '';
  const scan = await timed(async () => {
    account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
    const ended = await app.finished(`${account}/scans/last`, 900);
    if (ended.state !== 'done') throw new Error(JSON.stringify(ended));
  });
  const { rows } = await app.database.query<{ ids: number[]; count: number }>(
    `select array_agg(p.id)::float8[] as ids, (select count(*)::int from placement) as count
     from placement p join folder f on f.account = p.account and f.id = p.folder where p.uid = 1 and f.path like 'Ours/%'`,
  );
  const ran = async (asked: unknown) => {
    const { body } = await app.call('POST', `${account}/runs`, asked);
    return app.finished(`${account}/runs/${body.id}`, 900);
  };
  const run = await timed(() => ran({ action: 'trash', ids: rows[0]?.ids }));
  const back = await timed(() => ran({ action: 'restore', run: run.result.id }));
  for (const { result } of [run, back]) if (result.done.messages !== FOLDERS) throw new Error(JSON.stringify(result));
  const move = await timed(async () => {
    for (const index of folders) {
      await bare.command(`SELECT INBOX.Ours.f${index}`);
      await bare.command('UID SEARCH UID 2');
      await bare.command('UID MOVE 2 INBOX.Bin');
    }
  });
  await bare.command('SELECT INBOX.Bin');
  const restore = await timed(async () => {
    for (const index of folders) await bare.command(`UID MOVE ${index + 1} INBOX.Ours.f${index}`);
  });
  bare.close();
  printResults([
    {
      folders: FOLDERS,
      messages: rows[0]?.count,
      'scan, s': rounded(scan.seconds),
      'bare SELECT and FETCH, s': rounded(drain.seconds),
      'scan / bare': rounded(scan.seconds / drain.seconds),
      'one out of each to the trash, s': rounded(run.seconds),
      'bare SELECT, SEARCH and MOVE, s': rounded(move.seconds),
      'run / bare': rounded(run.seconds / move.seconds),
      'put back, s': rounded(back.seconds),
      'bare MOVE back, s': rounded(restore.seconds),
      'put back / bare': rounded(back.seconds / restore.seconds),
    },
  ]);
}

try {
  await main();
} finally {
  await cleanUp();
}
process.exit();
