import assert from 'node:assert/strict';
import { execFile } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import { promisify } from 'node:util';
import fc from 'fast-check';
import { CATEGORIES } from '../../src/core/categories/categories';
import { fromArrow } from '../../src/core/columns/arrow';
import type { Columns } from '../../src/core/columns/columns';
import { criteriaToMask, outsideTests } from '../../src/core/columns/mask';
import { criteriaToImap } from '../../src/core/criteria/imap';
import { instantOfAge, instantsOfDay } from '../../src/core/criteria/instants';
import { printCriteria } from '../../src/core/criteria/print';
import { criteriaToSieve } from '../../src/core/criteria/sieve';
import { type Criteria, type Field, isPlace, type Operator, type Place } from '../../src/core/criteria/tree';
import { fileKind } from '../../src/core/files/kinds';
import { FLAG_BITS } from '../../src/core/mailbox/flags';
import { numbersOf, parseSequenceSet, rangesOf } from '../../src/core/sets/ranges';
import { fold } from '../../src/core/text';
import { OCTETS_IN } from '../../src/core/units';
import { connectImap } from '../../src/mail/imap/connect';
import type { Access } from '../../src/mail/server';
import { type Account, accountById } from '../../src/store/access/accounts';
import { amountOfFiles, matchingFiles } from '../../src/store/archive/file-list';
import { transaction } from '../../src/store/database';
import { tell } from '../../src/store/events';
import { amountOf, matchingIds } from '../../src/store/index/messages';
import { openSearch, updateSearch } from '../../src/store/index/searches';
import type { StandIn } from '../../stand-in/host';
import { anyCriteria, criteriaOver, SERVER_TEXTS } from '../criteria-samples';
import { DOVECOT_PASSWORD, DOVECOT_USER, fillDovecot, sieveSettings, startDovecot } from '../dovecot';
import { App, cleanUp, demoScenario, PASSWORD, startStandIn, temporaryFolder, USER, until } from '../harness';
import { plainlyGuarded } from '../plain-guards';

after(cleanUp);

interface RowFile {
  id: number;
  name: string;
  type: string;
  /** What is no file inside it. */
  size: number;
}

interface Row {
  size: number;
  received: Date;
  sent: Date | null;
  flags: number;
  folder: string;
  name: string;
  address: string;
  host: string;
  domain: string;
  list: string;
  subject: string;
  recipients: { name: string; address: string }[];
  files: RowFile[];
  /** The file that is meant, of criteria of files. */
  file?: RowFile;
  category: number;
  keywords: string[];
  id: number;
  uid: number;
}

/** Ages are counted from the moment of the test, which is what a server counts them from. */
const NOW = new Date();
const ZONE = 'Pacific/Auckland';

/** Ids of the messages in which the server finds a text. */
const textIds = new Map<string, Set<number>>();

/** Ids of the messages that the guards keep, told by the plain rules. */
let guardedIds: ReadonlySet<number> = new Set();

/** The place of each message among those of its author, counted one by one. */
const placeOf: Record<Place, Map<number, number>> = { newest: new Map(), monthly: new Map() };

function countPlaces(rows: readonly Row[]): void {
  const monthOf = new Intl.DateTimeFormat('en', { timeZone: ZONE, year: 'numeric', month: 'long' });
  const seen = new Map<string, number>();
  const next = (key: string) => {
    const place = (seen.get(key) ?? 0) + 1;
    seen.set(key, place);
    return place;
  };
  for (const { id, address, folder, received } of [...rows].sort((a, b) => +b.received - +a.received || b.id - a.id)) {
    const author = `${folder === 'Trash'} ${fold(address) || `none ${id}`}`;
    placeOf.newest.set(id, next(author));
    placeOf.monthly.set(id, next(`${author} ${monthOf.format(received)}`));
  }
}

/** What an expression means, said a second time as plainly as can be. */
function means(criteria: Criteria, row: Row): boolean {
  switch (criteria.kind) {
    case 'everything':
      return true;
    case 'any':
      return criteria.of.some((part) => means(part, row));
    case 'all':
      return criteria.of.every((part) => means(part, row));
    case 'not':
      return !means(criteria.of, row);
    case 'flag': {
      if (criteria.name === 'guarded') return guardedIds.has(row.id);
      const name = criteria.name.replace(/^un/, '') as keyof typeof FLAG_BITS;
      return ((row.flags & FLAG_BITS[name]) !== 0) === !criteria.name.startsWith('un');
    }
  }
  const { field, op, value } = criteria;
  switch (value.type) {
    case 'octets':
      return compare(
        field === 'size' ? (row.file ?? row).size : row.files.reduce((sum, { size }) => sum + size, 0),
        op,
        value.number * (value.unit ? OCTETS_IN[value.unit] : 1),
      );
    case 'count':
      return compare(isPlace(field) ? (placeOf[field].get(row.id) as number) : row.files.length, op, value.number);
    case 'age':
      // Older means received earlier, so both sides are turned round.
      return compare(-row.received.getTime(), op, -instantOfAge(value.number, value.unit, NOW, ZONE).getTime());
    case 'day': {
      const at = (field === 'date' ? (row.sent ?? row.received) : row.received).getTime();
      const { start, end } = instantsOfDay(value.day, ZONE);
      const place = at < start.getTime() ? -1 : at >= end.getTime() ? 1 : 0;
      return compare(place, op, 0);
    }
    case 'text': {
      const wanted = fold(value.text);
      if (field === 'text') return (textIds.get(wanted)?.has(row.id) ?? false) === !op.startsWith('!');
      const texts = textsOf(field, row).map(fold);
      const under = field === 'under' && texts.some((text) => text === wanted || text.startsWith(`${wanted}/`));
      const holds = under || texts.some((text) => (op.endsWith('~') ? text.includes(wanted) : text === wanted));
      return holds === !op.startsWith('!');
    }
  }
}

function compare(one: number, op: Operator, other: number): boolean {
  const results: Partial<Record<Operator, boolean>> = {
    '=': one === other,
    '!=': one !== other,
    '<': one < other,
    '<=': one <= other,
    '>': one > other,
    '>=': one >= other,
  };
  return results[op] as boolean;
}

function textsOf(field: string, row: Row): string[] {
  switch (field) {
    case 'from':
      return [row.name, row.address];
    case 'to':
      return row.recipients.flatMap(({ name, address }) => [name, address]).filter(Boolean);
    case 'domain':
      return [row.domain, row.host];
    case 'list':
      return [row.list];
    case 'subject':
      return [row.subject];
    case 'file':
      return filesMeant(row)
        .map(({ name }) => name)
        .filter(Boolean);
    case 'kind':
      return filesMeant(row).map(({ type, name }) => fileKind(type, name));
    case 'category':
      return [CATEGORIES[row.category] as string];
    case 'keyword':
      return row.keywords;
    default:
      return [row.folder];
  }
}

const filesMeant = ({ file, files }: Row) => (file ? [file] : files);

const run = promisify(execFile);

let host: StandIn;
let app: App;

/** Everything that is indexed of an account, as plain rows. */
async function rowsOf(path: string): Promise<Row[]> {
  const { rows } = await app.database.query(
    `select p.id, p.uid, p.size, p.received, m.sent, p.flags, f.path as folder, m.from_name as name, m.from_address as address,
       m.from_host as host, m.from_domain as domain, m.list_id as list, m.subject, m.recipients, p.category, p.keywords,
       coalesce((select json_agg(json_build_object('id', f.id, 'name', f.name, 'type', f.type, 'size', f.own_size) order by f.id)
         from file f where f.account = p.account and f.id / 512 = p.message), '[]') as files
     from placement p join message m on m.account = p.account and m.id = p.message
     join folder f on f.account = p.account and f.id = p.folder
     where p.account = $1 and p.gone_at is null and not f.repeats`,
    [path.split('/')[2]],
  );
  return rows;
}

async function accountOf(path: string): Promise<Account> {
  return (await accountById(app.database, Number(path.split('/')[2]))) as Account;
}

async function columnsOf(path: string): Promise<Columns> {
  const response = await fetch(`${app.origin}/api${path}/columns`, { headers: { cookie: app.cookie } });
  return fromArrow(new Uint8Array(await response.arrayBuffer())).columns;
}

/** Has the server asked for the texts that samples hold. */
async function askTexts(path: string): Promise<void> {
  for (const text of SERVER_TEXTS) {
    const answer = await app.call('GET', `${path}/matches?where=${encodeURIComponent(`text ~ "${text}"`)}`);
    assert.equal(answer.status, 200, JSON.stringify(answer.body));
    textIds.set(fold(text), new Set(numbersOf(parseSequenceSet(answer.body.ids) ?? [])));
  }
}

/** A fifth of the demo's mail, and all of it that is odd. */
function awkward() {
  const small = demoScenario();
  const messages = small.messages.filter(
    ({ item }, index) => index % 5 === 0 || (item.size < 5_000 && item.write().includes('attic.example')),
  );
  return { ...small, messages };
}

before(async () => {
  host = await startStandIn({ scenario: awkward() });
  app = await App.start();
});

test('hundreds of random expressions give the same messages by columns, by SQL and by their plain meaning', async () => {
  const path = await app.signIn({ port: host.plainPort });
  await app.call('PATCH', `${path}/settings`, { timeZone: ZONE });
  await app.scanned(path);
  await askTexts(path);
  const account = await accountOf(path);
  const rows = await rowsOf(path);
  assert.equal(rows.length, host.mailbox.messageCount());
  guardedIds = plainlyGuarded(rows, NOW, ZONE);
  countPlaces(rows);
  const { guards, total } = (await app.call('GET', `${path}/guards`)).body;
  assert.equal(total.messages, guardedIds.size);
  assert.deepEqual(
    guards.map(({ kind, active }: { kind: string; active: boolean }) => [kind, active]),
    [
      ['flagged', true],
      ['drafts', true],
      ['correspondents', true],
    ],
  );
  const columns = await columnsOf(path);
  assert.equal(columns.length, rows.length);
  let narrowed = 0;
  await fc.assert(
    fc.asyncProperty(anyCriteria, async (criteria) => {
      const expected = rows.filter((row) => means(criteria, row));
      if (expected.length > 0 && expected.length < rows.length) narrowed++;
      const amount = { messages: expected.length, bytes: expected.reduce((sum, { size }) => sum + size, 0) };
      assert.deepEqual(await amountOf(app.database, account, criteria, 'all', NOW), amount, printCriteria(criteria));
      const outside = new Map<string, Uint8Array>();
      for (const [key, test] of outsideTests(criteria)) {
        const ids = new Set(await matchingIds(app.database, account, test, 'all', NOW));
        outside.set(
          key,
          Uint8Array.from(columns.id, (id) => (ids.has(id) ? 1 : 0)),
        );
      }
      const mask = criteriaToMask(criteria, columns, { now: NOW, timeZone: ZONE, outside });
      const byColumns = { messages: 0, bytes: 0 };
      for (const [row, size] of columns.size.entries())
        if (mask[row] === 1) {
          byColumns.messages++;
          byColumns.bytes += size;
        }
      assert.deepEqual(byColumns, amount, printCriteria(criteria));
    }),
    { numRuns: 90, includeErrorInReport: true },
  );
  assert.ok(narrowed > 30, `only ${narrowed} expressions told messages apart`);
});

test('and of files the same by SQL and by their plain meaning, each file once', async () => {
  const account = await accountOf('/accounts/1');
  const files = (await rowsOf('/accounts/1')).flatMap((row) => row.files.map((file) => ({ ...row, file })));
  assert.ok(files.length > 100, `there are ${files.length} files`);
  let narrowed = 0;
  await fc.assert(
    fc.asyncProperty(anyCriteria, async (criteria) => {
      const sizes = new Map<number, number>();
      for (const row of files) if (means(criteria, row)) sizes.set(row.file.id, row.file.size);
      if (sizes.size > 0 && sizes.size < files.length) narrowed++;
      const amount = { files: sizes.size, bytes: [...sizes.values()].reduce((sum, size) => sum + size, 0) };
      assert.deepEqual(
        await amountOfFiles(app.database, account, criteria, 'all', NOW),
        amount,
        printCriteria(criteria),
      );
      const matching = await matchingFiles(app.database, account, criteria, 'all', NOW);
      assert.deepEqual(matching, rangesOf([...sizes.keys()]), printCriteria(criteria));
    }),
    { numRuns: 60, includeErrorInReport: true },
  );
  assert.ok(narrowed > 10, `only ${narrowed} expressions told files apart`);
});

/** Fields whose searches are exact; `keyword` as a whole only, and `age` to the second by the server's clock. */
const EXACT: Field[] = ['size', 'age', 'folder', 'under', 'keyword', 'text'];

/** Asks a server in each folder for what random criteria mean, and compares with the index. */
async function searchAgrees(path: string, access: Access, runs: number): Promise<void> {
  const rows = await rowsOf(path);
  const server = await connectImap(access, { allowPrivate: true, caFile: undefined });
  const folders = (await server.folders()).filter(({ status, repeats }) => status && status.messages > 0 && !repeats);
  let exact = 0;
  const one = fc.oneof(criteriaOver(EXACT), anyCriteria);
  const turns = fc.asyncProperty(one, fc.constantFrom(...folders), async (criteria, { serverName, path: folder }) => {
    await server.open(serverName);
    const now = new Date();
    const context = { now, timeZone: ZONE, folder, within: server.dialect.within };
    const search = criteriaToImap(criteria, context);
    const found = new Set(numbersOf(await server.find(search.keys)));
    const expected = rows.filter((row) => row.folder === folder && means(criteria, row)).map(({ uid }) => uid);
    const missed = expected.filter((uid) => !found.has(uid));
    assert.deepEqual(missed, [], `${printCriteria(criteria)} in ${folder}: ${JSON.stringify(search.keys)}`);
    if (!search.exact) return;
    exact++;
    assert.equal(
      found.size,
      expected.length,
      `${printCriteria(criteria)} in ${folder}: ${JSON.stringify(search.keys)}`,
    );
  });
  await fc.assert(turns, { numRuns: runs, includeErrorInReport: true });
  await server.close();
  assert.ok(exact > runs / 4, `only ${exact} of ${runs} searches were exact`);
}

test('asking for a text anew while its last answer is written down waits for that, and neither fails', async () => {
  const path = await app.signIn({ port: host.plainPort });
  // Which would wait for the account as well.
  await app.scanned(path);
  const account = await accountOf(path);
  const text = 'a text that nobody wrote';
  const { search } = await openSearch(app.database, account.id, text);
  await updateSearch(app.database, account.id, search.id, { ...search, state: 'done' });
  let asked: Promise<unknown> | undefined;
  await transaction(app.database, async (worker) => {
    await updateSearch(worker, account.id, search.id, { ...search, state: 'done' });
    asked = transaction(app.database, (client) => openSearch(client, account.id, text));
    // It has the account by then, and waits for the search.
    await until(async () => {
      const waiting = `select 1 from pg_stat_activity where wait_event_type = 'Lock' and datname = current_database()`;
      return (await app.database.query(waiting)).rows.length > 0;
    });
    await tell(worker, account.id, 'search', search);
  });
  await asked;
});

test('IMAP SEARCH of the stand-in finds the same where it is declared exact, and never less elsewhere', async () => {
  const path = await app.signIn({ port: host.plainPort });
  const access = { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER, password: PASSWORD } as const;
  await searchAgrees(path, access, 400);
});

test('and so does that of Dovecot, a general-purpose server', async () => {
  const dovecot = await startDovecot(80);
  await fillDovecot(dovecot, demoScenario());
  const path = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.call('PATCH', `${path}/settings`, { timeZone: ZONE });
  await app.scanned(path);
  await askTexts(path);
  await searchAgrees(
    path,
    { host: '127.0.0.1', port: dovecot.plainPort, security: 'none', user: DOVECOT_USER, password: DOVECOT_PASSWORD },
    600,
  );
});

const SIEVE_FIELDS: Field[] = ['size', 'from', 'to', 'domain', 'list', 'subject'];

test('rules in Sieve decide as we do over hundreds of messages, by the interpreter of Debian (RFC 5228)', async () => {
  const path = await app.signIn({ port: host.plainPort });
  await app.scanned(path);
  const folder = temporaryFolder();
  // Of several authors Sieve looks at all of them, and we at the first. An author whose address is no address by RFC 5322 (here of
  // octets beyond ASCII) is none to Sieve: such a message stays where it is.
  const rows = (await rowsOf(path)).filter(
    ({ folder: name, subject }, index) =>
      index % 5 === 0 && host.mailbox.folders.has(name) && !/two authors|^long long/.test(subject),
  );
  assert.ok(rows.length > 200, `only ${rows.length} messages`);
  const files = rows.map((row) => {
    const placed = host.mailbox.folders.get(row.folder)?.messages.find(({ uid }) => uid === row.uid);
    const file = join(folder, `${row.id}.eml`);
    writeFileSync(file, placed?.item.write() ?? '');
    return file;
  });
  const rules: { criteria: Criteria; test: string }[] = [];
  for (const criteria of fc.sample(criteriaOver(SIEVE_FIELDS, false), 700)) {
    const compiled = criteriaToSieve(criteria);
    if (compiled.ok) rules.push({ criteria, test: compiled.test });
  }
  assert.ok(rules.length > 100, `only ${rules.length} rules`);
  const script = join(folder, 'rules.sieve');
  const lines = rules.map(({ test }, index) => `if ${test} { addflag "hits" "r${index}"; }`);
  writeFileSync(
    script,
    `require ["imap4flags", "variables", "fileinto"];\n${lines.join('\n')}\nfileinto :flags "\${hits}" "kept";\n`,
  );
  const settings = sieveSettings(folder);
  let hits = 0;
  const decide = async (row: (typeof rows)[number], index: number) => {
    const { stdout } = await run('sieve-test', ['-c', settings, script, files[index] as string]);
    const decided = new Set([...stdout.matchAll(/\br(\d+)\b/g)].map(([, number]) => Number(number)));
    for (const [number, { criteria, test }] of rules.entries()) {
      const expected = means(criteria, row);
      if (expected) hits++;
      assert.equal(decided.has(number), expected, `${printCriteria(criteria)} of “${row.subject}”: ${test}`);
    }
  };
  // Two at a time.
  for (let at = 0; at < rows.length; at += 2)
    await Promise.all(rows.slice(at, at + 2).map((row, further) => decide(row, at + further)));
  assert.ok(hits > 200, `only ${hits} decisions to take`);
  const refused = criteriaToSieve({
    kind: 'test',
    field: 'age',
    op: '>',
    value: { type: 'age', number: 3, unit: 'y' },
  });
  assert.deepEqual(refused, { ok: false, part: 'age > 3y', reason: 'ages' });
});
