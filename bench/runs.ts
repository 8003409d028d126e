import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { parseArgs } from 'node:util';
import { DOVECOT_PASSWORD, DOVECOT_USER, fillFolder, startDovecot } from '../test/dovecot';
import { App, cleanUp } from '../test/harness';
import { Bare, timed } from './bare';
import { median, printResults, rounded } from './measure';

/**
 * A whole folder to the trash, and the trash purged, against Debian's Dovecot on loopback, each beside one bare command on
 * the same server in the same run. Prints a table, and the same as JSON. Asserts nothing about time.
 */
const { values } = parseArgs({
  options: { messages: { type: 'string', default: '100000' }, turns: { type: 'string', default: '3' } },
});
const COUNT = Number(values.messages);

/** Small messages: what is measured is their number. */
function messages(): { write(): Buffer }[] {
  return Array.from({ length: COUNT }, (_, index) => ({
    write: () =>
      Buffer.from(
        `From: Bee Forum <forum${index % 500}@beeforum.example>\r\nMessage-ID: <${index}@bench.example>\r\n` +
          `Subject: Swarm ${index}\r\nDate: Tue, 24 Nov 2020 12:00:00 +0000\r\n\r\nhello\r\n`,
      ),
  }));
}

async function main(): Promise<void> {
  const dovecot = await startDovecot(20_000);
  for (const name of ['Ours', 'Bare']) fillFolder(dovecot, name, messages());
  execFileSync('chown', ['-R', `${dovecot.owner.uid}:${dovecot.owner.gid}`, dovecot.maildir]);
  const bare = await Bare.open(dovecot);
  await bare.command('CREATE INBOX.Bin');
  const app = await App.start({ env: { TAMSEL_LEASE_SECONDS: '6' } });
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  const peaks = () =>
    Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${app.workerPid}/status`, 'utf8'))?.[1] ?? 0) / 1024;
  const scanPeak = peaks();
  await app.killWorker();
  app.startWorker();

  const trash = { ours: [] as number[], bare: [] as number[] };
  const turns = Number(values.turns);
  for (let turn = 0; turn < turns; turn++) {
    const run = await timed(() => app.ran(account, { action: 'trash', where: 'folder = Ours' }));
    if (run.result.done.messages !== COUNT) throw new Error(JSON.stringify(run.result));
    trash.ours.push(run.seconds);
    await bare.command('SELECT INBOX.Bare');
    trash.bare.push((await timed(() => bare.command('UID MOVE 1:* INBOX.Bin'))).seconds);
    if (turn === turns - 1) break;
    await app.ran(account, { action: 'restore', run: run.result.id });
    await bare.command('SELECT INBOX.Bin');
    await bare.command('UID MOVE 1:* INBOX.Bare');
  }
  const purge = await timed(() => app.ran(account, { action: 'purge', where: '' }));
  await bare.command('SELECT INBOX.Bin');
  const store = await timed(() => bare.command('UID STORE 1:* +FLAGS.SILENT (\\Deleted)'));
  const expunge = await timed(() => bare.command('EXPUNGE'));
  const peak = peaks();
  bare.close();

  const ours = median(trash.ours);
  const theirs = median(trash.bare);
  const figures = {
    server: 'dovecot',
    messages: COUNT,
    'run to the trash, s (median)': rounded(ours),
    'run, messages a second': rounded(COUNT / ours),
    'bare UID MOVE 1:*, s (median)': rounded(theirs),
    'run / bare UID MOVE': rounded(ours / theirs),
    'purge, s': rounded(purge.seconds),
    'purge, messages': purge.result.done.messages,
    'bare STORE, s': rounded(store.seconds),
    'bare EXPUNGE, s': rounded(expunge.seconds),
    'purge / bare STORE and EXPUNGE': rounded(purge.seconds / (store.seconds + expunge.seconds)),
    'peak memory of the worker while running, MB': rounded(peak),
    'peak memory of the worker while scanning, MB': rounded(scanPeak),
  };
  printResults([figures]);
}

try {
  await main();
} finally {
  await cleanUp();
}
process.exit();
