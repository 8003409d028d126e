import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { parseArgs } from 'node:util';
import { App, cleanUp, ROOT } from '../harness';
import { startCourier } from './courier';
import { startCyrus } from './cyrus';
import type { MailHost } from './mail-host';

/**
 * The whole job on Debian's Cyrus and Courier, held against Python's imaplib: folders with names that an encoding can spoil,
 * scanned, moved to the trash, put back where they were, put back where the folder is gone, and a limit that refuses.
 *
 *     node --import tsx test/servers/others.ts --server cyrus
 */
const { values } = parseArgs({ options: { server: { type: 'string', default: 'cyrus' } } });

/** Folders as a user reads them, and on the wire (RFC 3501 §5.1.3). */
const FOLDERS = [
  ['R&D', 'R&-D'],
  ['Gemüse', 'Gem&APw-se'],
  ['日本語', '&ZeVnLIqe-'],
  ['Two words (2)', 'Two words (2)'],
  ['&', '&-'],
] as const;
const EACH = 130;

interface Told {
  messages: number;
  bytes: number;
}

function python(host: MailHost, script: string, ...args: string[]): string {
  return execFileSync(
    'python3',
    [`${ROOT}/test/servers/${script}`, `${host.port}`, host.user, host.password, ...args],
    { encoding: 'utf8', env: { ...process.env, PYTHONHASHSEED: '1' } },
  );
}

function told(host: MailHost, wire: string): Told {
  const { messages, bytes } = JSON.parse(python(host, 'folder_figures.py', `${host.prefix}${wire}`));
  return { messages, bytes };
}

async function check(host: MailHost): Promise<void> {
  const app = await App.start();
  for (const [, wire] of FOLDERS) python(host, 'fill.py', `${host.prefix}${wire}`, `${EACH}`);
  const account = await app.signIn({ port: host.port, user: host.user, password: host.password });
  const scanned = await app.finished(`${account}/scans/last`);
  assert.equal(scanned.state, 'done', JSON.stringify(scanned));
  const level = async () => (await app.call('GET', `${account}/level`)).body;
  const folder = async (path: string) => {
    const { folders } = await level();
    const { messages, bytes } = folders.find((each: { path: string }) => each.path === path) ?? {};
    return { messages, bytes };
  };
  const run = async (body: object) => {
    const posted = await app.call('POST', `${account}/runs`, body);
    assert.equal(posted.status, 202, JSON.stringify(posted.body));
    return app.finished(`${account}/runs/${posted.body.id}`);
  };
  assert.equal((await app.call('POST', `${account}/trash`, {})).status, 201);
  for (const [path, wire] of FOLDERS) {
    assert.deepEqual(await folder(path), told(host, wire), path);
    const trashed = await run({ action: 'trash', folder: path });
    assert.deepEqual([trashed.state, trashed.done.messages, trashed.left], ['done', EACH, []], JSON.stringify(trashed));
    assert.equal(told(host, wire).messages, 0);
    assert.equal(told(host, 'Trash').messages, EACH);
    python(host, 'commands.py', `DELETE "${host.prefix}${wire}"`);
    const back = await run({ action: 'restore', run: trashed.id });
    assert.deepEqual([back.state, back.done.messages], ['done', EACH], JSON.stringify(back));
    assert.equal(told(host, wire).messages, EACH, `${path} is made again by the same name`);
    assert.equal(told(host, 'Trash').messages, 0);
  }
  const trashed = await run({ action: 'trash', folder: 'Gemüse', label: 'filled' });
  assert.equal(trashed.done.messages, EACH);
  // Cyrus is asked for room in a root of the trash's own, Courier, which never counts the trash, on the way back.
  const sum = FOLDERS.map(([, wire]) => told(host, wire).bytes).reduce((one, other) => one + other, 0);
  host.limit(Math.ceil(sum / 1024) + 10);
  const request = { cyrus: { action: 'trash', folder: 'R&D' }, courier: { action: 'restore', run: trashed.id } }[
    host.name
  ];
  const refused = await run(request as object);
  process.stdout.write(
    `${JSON.stringify({ state: refused.state, done: refused.done, left: refused.left, problem: refused.problem })}\n`,
  );
  assert.ok(refused.done.messages < EACH, 'the limit refuses some');
  assert.ok(refused.problem, 'what was refused is told');
  const there = ['Gem&APw-se', 'R&-D', 'Trash'].map((wire) => told(host, wire).messages);
  assert.equal(
    there.reduce((one, other) => one + other),
    2 * EACH,
    'nothing is lost',
  );
  process.stdout.write(`${host.name}: as it should be\n`);
}

const starts: Record<string, (port: number) => Promise<MailHost>> = { cyrus: startCyrus, courier: startCourier };
const start = starts[values.server];
if (!start) throw new Error('Servers are cyrus and courier.');
const host = await start(21_430 + Math.floor(Math.random() * 1000));
try {
  await check(host);
} finally {
  await cleanUp();
  await host.stop();
}
process.exit();
