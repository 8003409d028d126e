import { execFileSync } from 'node:child_process';
import { linkSync, mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Dovecot } from './dovecot';

/** Messages that are written; more are links to these, of which a file system takes only so many to one file. */
const DISTINCT = 5_000;

function small(index: number): Buffer {
  const filler = 'x'.repeat(index % 700);
  return Buffer.from(
    `From: Bee Forum <forum${index % 500}@beeforum.example>\r\nMessage-ID: <${index}@bench.example>\r\n` +
      `Subject: Swarm ${index}\r\nDate: Tue, 24 Nov 2020 12:00:00 +0000\r\n\r\nhello ${filler}\r\n`,
  );
}

/** Fills a folder of Dovecot's with small messages, most of them links. Their sizes are in their names, as Dovecot writes them. */
export function fillBig(dovecot: Dovecot, folder: string, messages: number): void {
  const root = folder === 'INBOX' ? dovecot.maildir : join(dovecot.maildir, `.${folder}`);
  for (const part of ['cur', 'new', 'tmp']) mkdirSync(join(root, part), { recursive: true });
  const first: string[] = [];
  for (let index = 0; index < messages; index++) {
    const turn = index % DISTINCT;
    const flags = index % 3 === 0 ? 'S' : index % 97 === 0 ? 'F' : '';
    const path = join(root, 'cur', `${1_600_000_000 + index}.M${index}.bench,S=${small(turn).length}:2,${flags}`);
    if (index < DISTINCT) {
      writeFileSync(path, small(index));
      first.push(path);
    } else linkSync(first[turn] as string, path);
  }
  own(dovecot);
}

/** Makes many folders of a few messages each, below one name. */
export function fillMany(dovecot: Dovecot, under: string, folders: number, each: number): void {
  for (let folder = 0; folder < folders; folder++) {
    const root = join(dovecot.maildir, `.${under}.f${folder}`);
    for (const part of ['cur', 'new', 'tmp']) mkdirSync(join(root, part), { recursive: true });
    for (let index = 0; index < each; index++)
      writeFileSync(
        join(root, 'cur', `${1_600_000_000 + index}.M${folder}x${index}.bench:2,`),
        small(folder * each + index),
      );
  }
  own(dovecot);
}

/** Gives what was written to whom the mail belongs. */
export function own({ owner, maildir }: Dovecot): void {
  if (process.getuid?.() === 0) execFileSync('chown', ['-R', `${owner.uid}:${owner.gid}`, maildir]);
}
