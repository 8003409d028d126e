import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { mkdtemp, open, readFile, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { columnsOfFiles } from '../src/core/columns/file-columns';
import { FilesView } from '../src/workers/files-view';
import { MailboxView } from '../src/workers/mailbox-view';
import { sampleColumns, sampleFiles } from '../test/column-samples';
import { DOVECOT_PASSWORD, DOVECOT_USER, fillFolder, startDovecot } from '../test/dovecot';
import { letter, octetsOf } from '../test/fast/letters';
import { App, cleanUp, until } from '../test/harness';
import { Bare, timed } from './bare';
import { limitedLine } from './limited-line';
import { median, printResults, rounded } from './measure';

/**
 * Saving files, and taking them out, against Debian's Dovecot on loopback, each beside bare commands that fetch and append the
 * same on the same server in the same run; and Files beside Sift, over columns of the same mailbox. Prints a table, and the same
 * as JSON. Asserts nothing about time.
 */
const { values } = parseArgs({
  options: {
    messages: { type: 'string', default: '150' },
    octets: { type: 'string', default: '1500000' },
    rows: { type: 'string', default: '1000000' },
    turns: { type: 'string', default: '3' },
    /** Octets a second of the line between us and the server; 0 is as fast as loopback is. */
    line: { type: 'string', default: '0' },
  },
});
const COUNT = Number(values.messages);
const TURNS = Number(values.turns);

async function main(): Promise<void> {
  const dovecot = await startDovecot(20_000);
  const mails = Array.from({ length: COUNT }, (_, at) => ({
    write: () => letter(`letter ${at}`, [{ name: `picture-${at}.jpg`, octets: octetsOf(Number(values.octets), at) }]),
  }));
  fillFolder(dovecot, 'Ours', mails);
  execFileSync('chown', ['-R', `${dovecot.owner.uid}:${dovecot.owner.gid}`, dovecot.maildir]);
  const speed = Number(values.line);
  const port = speed > 0 ? (await limitedLine(dovecot.plainPort, speed)).port : dovecot.plainPort;
  const bare = await Bare.open({ plainPort: port });
  await bare.command('CREATE INBOX.Small');
  const app = await App.start({ env: { TAMSEL_LEASE_SECONDS: '6' } });
  const account = await app.signIn({ port, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  const disk: number[] = [];
  const save = { ours: [] as number[], bare: [] as number[] };
  const strip = { ours: [] as number[], bare: [] as number[] };
  await bare.command('SELECT INBOX.Ours');
  for (let turn = 0; turn < TURNS; turn++) {
    save.ours.push((await timed(() => saved(app, account))).seconds);
    disk.push((await timed(() => onDiskAlone())).seconds);
    save.bare.push((await timed(() => fetchAll(bare, 'BODY.PEEK[2]'))).seconds);
    const lot = (await app.call('POST', `${account}/lots`, { fate: 'strip', where: 'folder = Ours' })).body;
    const run = await timed(() => app.ran(account, { action: 'strip', lots: [lot.id] }));
    if (run.result.done.messages !== COUNT) throw new Error(JSON.stringify(run.result.left));
    strip.ours.push(run.seconds);
    await bare.command('SELECT INBOX.Trash');
    strip.bare.push((await timed(() => fetchAndAppend(bare))).seconds);
    await app.ran(account, { action: 'restore', run: run.result.id });
    await until(async () =>
      (await app.call('GET', `${account}/runs`)).body.runs.every(({ state }: { state: string }) => state === 'done'),
    );
    await app.ran(account, { action: 'purge', where: '' });
    await app.scanned(account, true);
    await bare.command('SELECT INBOX.Ours');
  }
  bare.close();
  const figures = {
    server: 'dovecot',
    messages: COUNT,
    'octets a file': Number(values.octets),
    'line, MB/s': speed > 0 ? rounded(speed / 1e6) : 'loopback',
    'disk alone, s (median)': rounded(median(disk)),
    'save and check, s (median)': rounded(median(save.ours)),
    'bare FETCH of the parts, s': rounded(median(save.bare)),
    'save / bare': rounded(median(save.ours) / median(save.bare)),
    'take out, s (median)': rounded(median(strip.ours)),
    'bare FETCH and APPEND, s': rounded(median(strip.bare)),
    'take out / bare': rounded(median(strip.ours) / median(strip.bare)),
  };
  printResults([{ ...figures, ...besideSift() }]);
  await cleanUp();
  process.exit();
}

async function saved(app: App, account: string): Promise<void> {
  const { id } = (await app.call('POST', `${account}/bags`, { place: 'here', where: 'folder = Ours' })).body;
  await until(async () => {
    const { state, checked } = (await app.call('GET', `${account}/bags/${id}`)).body;
    if (state === 'done' && checked.files !== COUNT) throw new Error(`${checked.files} of ${COUNT} were checked`);
    return state === 'done';
  }, 600);
}

/** The same octets written, flushed and read back by themselves, several files at a time. */
async function onDiskAlone(): Promise<void> {
  const folder = await mkdtemp(join(tmpdir(), 'tamsel-bench-'));
  const octets = octetsOf(Number(values.octets), 1);
  const rest = Array.from({ length: COUNT }, (_, at) => join(folder, `${at}`));
  const write = async () => {
    for (let path = rest.pop(); path; path = rest.pop()) {
      const file = await open(path, 'w');
      await file.writeFile(octets);
      await file.datasync();
      await file.close();
      createHash('sha256')
        .update(await readFile(path))
        .digest();
    }
  };
  await Promise.all([write(), write(), write(), write()]);
  await rm(folder, { recursive: true });
}

/** One after the other, as whoever saves them one by one. */
async function fetchAll(bare: Bare, item: string): Promise<void> {
  for (let number = 1; number <= COUNT; number++) await bare.command(`FETCH ${number} ${item}`);
}

/** Fetches the originals, and appends messages as small as those that take their place. */
async function fetchAndAppend(bare: Bare): Promise<void> {
  await fetchAll(bare, 'BODY.PEEK[]');
  const small = letter('small', [{ name: 'note.txt', octets: octetsOf(500, 1) }]).toString('latin1');
  for (let number = 1; number <= COUNT; number++)
    await bare.command(`APPEND INBOX.Small (\\Seen) {${small.length}+}\r\n${small}`);
}

/** Files opened and narrowed beside messages, over columns of one mailbox. */
function besideSift(): Record<string, number> {
  const columns = sampleColumns(Number(values.rows), 1);
  const files = sampleFiles(columns, 1);
  const now = new Date('2026-11-25T00:00:00Z');
  const outside = { idsOf: () => [], bySubject: () => undefined };
  const list = { order: 'size', descending: true, first: 0, count: 60 } as const;
  const none = { copy: null, mailed: null, place: null };
  const wheres = ['', 'kind = picture', 'kind = picture and age > 2y', 'size > 1 MiB', 'from ~ post1'];
  const sift = { open: 0, narrow: [] as number[] };
  const ours = { open: 0, narrow: [] as number[] };
  let messages: MailboxView | undefined;
  let view: FilesView | undefined;
  sift.open = measured(() => {
    messages = new MailboxView(columns, 'UTC', new Set(), outside, now);
    messages.narrow('', now, list);
  });
  ours.open = measured(() => {
    view = new FilesView(files, columns, 'UTC', new Set(), outside, now);
    view.narrow('', now, list, none);
  });
  for (let turn = 0; turn < 3; turn++)
    for (const where of wheres) {
      sift.narrow.push(measured(() => messages?.narrow(where, now, list)));
      ours.narrow.push(measured(() => view?.narrow(where, now, list, none)));
    }
  return {
    'rows of messages': columns.length,
    'rows of files': columnsOfFiles(files, columns).columns.length,
    'Sift opens, ms': rounded(sift.open),
    'Files opens, ms': rounded(ours.open),
    'Sift narrows, ms (median)': rounded(median(sift.narrow)),
    'Files narrows, ms (median)': rounded(median(ours.narrow)),
  };
}

function measured(act: () => unknown): number {
  const started = performance.now();
  act();
  return performance.now() - started;
}

await main();
