import assert from 'node:assert/strict';
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { readdirSync, readFileSync } from 'node:fs';
import { join, relative } from 'node:path';
import { unquoted } from '../../src/core/archive/mbox';
import { type Bag, bagById } from '../../src/store/archive/bags';
import { FakeServer } from './fake-server';
import { given, letter, octetsOf } from './letters';
import type { Mailbox } from './mailbox';

/** Messages that a reader of mbox files could take for several, for none, or for others. */
const DIFFICULT = {
  'From at the beginning of lines':
    'A letter.\r\n\r\nFrom here on it is quoted:\r\n>From there\r\n>>From further\r\n> From afar\r\n',
  'no line end': 'ends in the middle',
  'line feeds alone': 'one\ntwo\n\nFrom three\n',
  'empty lines at the end': 'x\r\n\r\n\r\n',
  'octets of all kinds': octetsOf(5_000, 7).toString('latin1'),
  From: 'From ',
};
/** No name of a file on any of the three common systems, and two that differ in case alone. */
export const FOLDERS = ['../../etc', 'Minutes', 'minutes', 'a\u202eb/..', 'n'.repeat(500), 'con', 'Committee/Minutes'];

export const message = (subject: string, text: string, rest = `\r\n${text}`) =>
  Buffer.from(`Subject: ${subject}\r\nMessage-ID: <${subject.replace(/\W+/g, '-')}@mail.example>\r\n${rest}`, 'latin1');

/** A mailbox of difficult messages in folders with difficult names. */
export function difficultServer(): FakeServer {
  const fake = new FakeServer();
  fake.add('INBOX', 'inbox', [
    given(letter('open day', [{ name: 'open-day.jpg', octets: octetsOf(5_000, 1) }]), {
      keywords: ['$Forwarded', 'later'],
      flags: 1,
    }),
    ...Object.entries(DIFFICULT).map(([subject, text]) => given(message(subject, text))),
    given(Buffer.alloc(0), { messageId: '<nothing@mail.example>', subject: 'nothing' }),
  ]);
  for (const [at, path] of FOLDERS.entries()) fake.add(path, null, [given(message(`of folder ${at}`, `${at}\r\n`))]);
  fake.add('Trash', 'trash', []);
  return fake;
}

export const octetsHosted = (fake: FakeServer) =>
  fake.folderList.flatMap(({ messages }) => messages.map(({ octets }) => octets as Buffer));
export const sumOf = (octets: Buffer) => createHash('sha256').update(octets).digest('hex');
export async function folderOf(mailbox: Mailbox, id: number): Promise<string> {
  const { folder } = (await bagById(mailbox.database, mailbox.account.id, id)) as Bag;
  return mailbox.context.archive.bag(mailbox.account.id, folder).path;
}

/** Every message of a bag by its index alone: one seek in its file, and the quoting undone. */
export async function readByIndex(folder: string): Promise<(Record<string, any> & { octets: Buffer })[]> {
  const lines = readFileSync(join(folder, 'data/index.jsonl'), 'utf8').trim().split('\n');
  const found = [];
  for (const line of lines) {
    const entry = JSON.parse(line);
    const mbox = readFileSync(join(folder, 'data', entry.path)).subarray(entry.offset, entry.offset + entry.length);
    async function* body() {
      yield mbox.subarray(mbox.indexOf(0x0a) + 1);
    }
    const pieces: Uint8Array[] = [];
    for await (const piece of unquoted(body())) pieces.push(piece);
    found.push({ ...entry, octets: Buffer.concat(pieces).subarray(0, entry.size) });
  }
  return found;
}

/** Fails unless a bag passes its manifests, holds each message once, and nothing else. */
export async function isWhole(mailbox: Mailbox, id: number, what: string): Promise<void> {
  const folder = await folderOf(mailbox, id);
  for (const manifest of ['manifest-sha256.txt', 'tagmanifest-sha256.txt']) {
    const { status, stderr } = spawnSync('sha256sum', ['--strict', '-c', manifest], { cwd: folder });
    assert.equal(status, 0, `${what}: ${stderr}`);
  }
  const read = await readByIndex(folder);
  assert.deepEqual(
    read.map(({ octets }) => sumOf(octets)).sort(),
    octetsHosted(mailbox.server).map(sumOf).sort(),
    what,
  );
  for (const { sha256, octets } of read) assert.equal(sumOf(octets), sha256, what);
  const files = readdirSync(join(folder, 'data'), { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map(({ parentPath, name }) => relative(join(folder, 'data'), join(parentPath, name)));
  const listed = readFileSync(join(folder, 'manifest-sha256.txt'), 'utf8').trim().split('\n');
  assert.deepEqual(files.map((path) => `data/${path}`).sort(), listed.map((line) => line.slice(66)).sort(), what);
}
