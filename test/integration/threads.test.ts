import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { own } from '../big-folder';
import { DOVECOT_PASSWORD, DOVECOT_USER, startDovecot } from '../dovecot';
import { App, cleanUp, ROOT, temporaryFolder, until } from '../harness';

after(cleanUp);

const THREADS = 1_200;

interface Truth {
  /** By Message-ID of a letter how its answer was made. */
  kinds: Record<string, string>;
  /** Of these the manners in which a person would say that it is quoted in full. */
  quoted: string[];
  files: Record<string, { sha256: string; times: number }>;
}

function python(script: string, ...args: string[]): string {
  return execFileSync('/usr/bin/python3', [join(ROOT, 'test/integration', script), ...args], {
    encoding: 'utf8',
    maxBuffer: 2 ** 26,
  });
}

test('letters that Python’s email wrote are found where an answer quotes them in full, and files where they were mailed again', async () => {
  const dovecot = await startDovecot(2_000);
  const folder = temporaryFolder();
  const truth: Truth = JSON.parse(python('make_threads.py', dovecot.maildir, `${THREADS}`, folder));
  own(dovecot);
  const app = await App.start();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  const repeats = async () => (await app.call('GET', `${account}/repeats`)).body;
  const { unread } = await repeats();
  assert.equal(unread.threads.messages, 2 * THREADS, 'each message of a thread is read, and nothing else');
  for (const what of ['threads', 'files']) {
    await app.call('POST', `${account}/repeats/compare`, { what });
    await until(
      async () => (await repeats()).proofs.find((proof: { what: string }) => proof.what === what).state === 'done',
      300,
    );
  }
  // What stands in which later message.
  const { rows } = await app.database.query<{ message: string; holder: string }>(
    `select m.message_id as message, h.message_id as holder from echo e
     join message m on m.id = e.message and m.account = e.account join message h on h.id = e.holder and h.account = e.account`,
  );
  const found = new Set(rows.map(({ message }) => message));
  const isQuoted = (message: string) => truth.quoted.includes(truth.kinds[message] as string);
  const wrong = [...found].filter((message) => !isQuoted(message)).map((message) => truth.kinds[message]);
  assert.deepEqual(wrong, [], 'nothing is told that is not quoted in full');
  const quoted = Object.keys(truth.kinds).filter(isQuoted);
  const missed = new Set(quoted.filter((message) => !found.has(message)).map((message) => truth.kinds[message]));
  // Precision goes before: where programs put words between those of the letter it is not told.
  assert.deepEqual([...missed].sort(), ['with_a_mark_of_the_list', 'with_addresses_written_out']);
  // Threads are those of the server, and what holds a message stands behind it.
  const threads: string[][] = JSON.parse(
    python('threads_of.py', `${dovecot.plainPort}`, DOVECOT_USER, DOVECOT_PASSWORD),
  );
  const theirs = new Map(threads.flatMap((thread, number) => thread.map((id, at) => [id, { number, at }] as const)));
  for (const { message, holder } of rows) {
    const [one, other] = [theirs.get(message), theirs.get(holder)];
    assert.ok(one && other && one.number === other.number && one.at < other.at, `${message} before ${holder}`);
  }
  const ours = await app.database.query<{ ids: string[] }>(
    `select array_agg(message_id) as ids from message where message_id like '<t%' group by thread`,
  );
  const sets = (lists: string[][]) => lists.map((ids) => [...ids].sort().join(' ')).sort();
  const isLetter = (id: string) => id.startsWith('<t');
  assert.deepEqual(
    sets(ours.rows.map(({ ids }) => ids)),
    sets(threads.map((thread) => thread.filter(isLetter)).filter((thread) => thread.length > 0)),
  );
  // Files, by the octets that coreutils sees.
  const { body } = await app.call('GET', `${account}/repeats/files?limit=200`);
  const sums = execFileSync('sha256sum', Object.keys(truth.files), { cwd: folder, encoding: 'utf8' });
  const bySum = new Map(
    sums
      .trim()
      .split('\n')
      .map((line) => line.split(/\s+/) as [string, string]),
  );
  assert.deepEqual(
    Object.fromEntries(
      body.groups.map(({ sha256, copies }: { sha256: string; copies: unknown[] }) => [
        bySum.get(sha256),
        copies.length,
      ]),
    ),
    Object.fromEntries(Object.entries(truth.files).map(([name, { times }]) => [name, times])),
  );
  assert.equal(body.groups.length, Object.keys(truth.files).length, 'what is only as long is no copy');
});
