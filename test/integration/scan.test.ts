import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { setTimeout as sleep } from 'node:timers/promises';
import { beginDueScan } from '../../src/jobs/housekeeping';
import { lockAccount } from '../../src/store/access/credentials';
import { stateOf } from '../../stand-in/control';
import type { StandIn } from '../../stand-in/host';
import { App, cleanUp, demoScenario, hosted, indexed, startStandIn, tinyScenario, until } from '../harness';
import { Relay } from '../relay';

after(cleanUp);

const folderOf = (host: StandIn, name: string) => {
  const folder = host.mailbox.folder(name);
  assert.ok(folder);
  return folder;
};

/** What another program may do in the meantime: bring, move, delete and flag messages. */
function meddle(host: StandIn, turn: number): void {
  const { mailbox } = host;
  const inbox = folderOf(host, 'INBOX');
  const offers = folderOf(host, 'Offers');
  mailbox.append(
    inbox,
    Buffer.from(`Subject: late ${turn}\r\nFrom: late@post.example\r\n\r\nhello\r\n`),
    1_700_000_000 + turn,
    [],
  );
  mailbox.move(offers, offers.messages.slice(turn, turn + 7), inbox);
  mailbox.expunge(inbox, inbox.messages.slice(turn * 2, turn * 2 + 3));
  mailbox.setFlags(
    offers,
    offers.messages
      .slice(0, 20)
      .map((placed) => ({ placed, flags: new Set([...placed.flags, turn % 2 ? 'flagged' : 'seen', `turn${turn}`]) })),
  );
}

/** Flags of every message of the index, by folder and UID. */
async function flagsOf(app: App): Promise<Map<string, string>> {
  const { rows } = await app.database.query(
    'select f.path, p.uid, p.flags, p.keywords from placement p join folder f on f.account = p.account and f.id = p.folder where p.gone_at is null',
  );
  return new Map(rows.map(({ path, uid, flags, keywords }) => [`${path} ${uid}`, `${flags} ${keywords.join(' ')}`]));
}

function flagsAt(host: StandIn): Map<string, string> {
  const bits: Record<string, number> = { seen: 1, answered: 2, flagged: 4, deleted: 8, draft: 16 };
  const all = [...host.mailbox.folders.values()].filter((folder) => !host.mailbox.isView(folder));
  return new Map(
    all.flatMap(({ name, messages }) =>
      messages.map(({ uid, flags }) => {
        const keywords = [...flags].filter((flag) => !(flag in bits)).sort();
        return [
          `${name} ${uid}`,
          `${[...flags].reduce((sum, flag) => sum + (bits[flag] ?? 0), 0)} ${keywords.join(' ')}`,
        ] as const;
      }),
    ),
  );
}

test('several quota roots are told apart, each with what lies in it', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  host.faults.archiveRoot = true;
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const { roots, folders } = (await app.call('GET', `${account}/level`)).body;
  const archived = folders.filter(({ path }: { path: string }) => /^Archive/.test(path));
  const sum = (of: 'messages' | 'bytes') => archived.reduce((total: number, folder: any) => total + folder[of], 0);
  assert.deepEqual(
    roots.map(({ name }: { name: string }) => name),
    ['archive', 'mailbox'],
  );
  assert.deepEqual(roots[0].counted, { messages: sum('messages'), bytes: sum('bytes') });
  assert.equal(roots[0].used, Math.ceil(sum('bytes') / 1024) * 1024);
  assert.equal(roots[1].counted.messages, host.mailbox.messageCount() - sum('messages'));
  await app.killWorker();
});

test('the index equals the host in every folder; a view of every message is shown and never counted; nothing is dropped for being odd', async () => {
  const host = await startStandIn({ withEveryMessage: true, messageLimit: 9_000 });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  const first = (await app.call('GET', `${account}/level`)).body;
  assert.equal(
    first.mail.messages + first.trash.messages,
    host.mailbox.messageCount(),
    'the level is there before the scan',
  );
  assert.equal(first.used, Math.ceil(host.mailbox.used() / 1024) * 1024);
  assert.equal(first.messageLimit, 9_000);
  await app.scanned(account);
  assert.deepEqual(await indexed(app, account), hosted(host));
  assert.deepEqual(await flagsOf(app), flagsAt(host));
  const level = (await app.call('GET', `${account}/level`)).body;
  const view = level.folders.find(({ path }: { path: string }) => path === 'Everything');
  assert.deepEqual([view.repeats, view.messages > 4_000], [true, true]);
  assert.ok(first.unread > 20);
  assert.equal(level.unread, 0);
  assert.equal(level.mail.bytes + level.trash.bytes + level.other, level.used);
  const view409 = await app.call('POST', `${account}/runs`, { action: 'purge', folder: 'Everything' });
  assert.equal(view409.body.type, '/problems/repeated-view');
  const odd = (
    await app.call(
      'GET',
      `${account}/messages?limit=50&order=subject&where=${encodeURIComponent('under = "Märkte & Feste" or domain = attic.example or subject ~ "nothing but" or subject ~ "<img"')}`,
    )
  ).body;
  const subjects = odd.messages.map(({ subject }: { subject: string }) => subject).join('\n');
  for (const wanted of ['café au lait', 'Überlänge, zwei Wörter', '<img src=x', 'no author', '元'])
    assert.ok(subjects.includes(wanted), wanted);
  const future = odd.messages.find(({ subject }: { subject: string }) => subject.startsWith('from the future'));
  assert.deepEqual([future.date, future.flaws], [null, ['date']]);
});

test('a second scan finds what other clients brought, moved, deleted and flagged, with CONDSTORE and without', async () => {
  for (const hide of [[], ['CONDSTORE'], ['CONDSTORE', 'LIST-STATUS', 'STATUS=SIZE', 'ESEARCH', 'OBJECTID', 'QUOTA']]) {
    const host = await startStandIn();
    host.faults.hide = hide;
    const app = await App.start();
    const account = await app.signIn({ port: host.plainPort });
    await app.scanned(account);
    meddle(host, 1);
    meddle(host, 2);
    host.mailbox.create('Made by others');
    host.mailbox.rename('Drafts', 'Half done');
    const scan = await app.scanned(account, true);
    assert.equal(scan.state, 'done');
    assert.deepEqual(await indexed(app, account), hosted(host), hide.join());
    assert.deepEqual(await flagsOf(app), flagsAt(host), hide.join());
    host.mailbox.changeUidValidity('Sent');
    await app.scanned(account, true);
    assert.deepEqual(await indexed(app, account), hosted(host));
    const level = (await app.call('GET', `${account}/level`)).body;
    assert.equal(level.usedBy, hide.includes('QUOTA') ? 'counted' : 'server');
    await app.killWorker();
  }
});

test('mail that comes, moves and goes while a scan is under way leaves ours equal to STATUS in every folder', async () => {
  const host = await startStandIn();
  const app = await App.start();
  host.faults.latencyMs = 15;
  const account = await app.signIn({ port: host.plainPort });
  for (let turn = 1; turn <= 12; turn++) {
    await sleep(250);
    meddle(host, turn);
  }
  host.faults.latencyMs = 0;
  await app.scanned(account);
  // What came when the first was over already.
  await app.scanned(account, true);
  assert.deepEqual(await indexed(app, account), hosted(host));
  assert.deepEqual(await flagsOf(app), flagsAt(host));
});

test('a scan killed at random points and dropped at random octets goes on where it was', async () => {
  const host = await startStandIn();
  const app = await App.start();
  const before = stateOf(host);
  const account = await app.signIn({ port: host.plainPort });
  const written = async () => (await app.database.query('select count(*)::int as rows from placement')).rows[0].rows;
  /** Killed three times before it got on: a person has it go on. */
  const resumed = async () => {
    const { state, problem } = (await app.call('GET', `${account}/scans/last`)).body;
    if (state === 'failed' && problem?.kind === 'worker-died') await app.call('POST', `${account}/scans`, {});
  };
  for (let kills = 0; kills < 9; kills++) {
    const had = await written();
    await sleep(150 + Math.random() * 900);
    // What ends its worker again and again without getting on would be given up.
    if (kills % 2 === 1 && had < demoScenario().messages.length)
      await until(async () => {
        await resumed();
        return (await written()) > had;
      });
    if (kills % 3 === 2) host.faults.dropAfterBytes = 20_000 + Math.floor(Math.random() * 900_000);
    await app.killWorker();
    app.startWorker();
    if (kills % 3 === 2) await sleep(1_200);
    host.faults.dropAfterBytes = 0;
  }
  await until(async () => {
    await resumed();
    return (await app.call('GET', `${account}/scans/last`)).body.state === 'done';
  });
  assert.deepEqual(await indexed(app, account), hosted(host));
  const { rows } = await app.database.query(
    'select count(*)::int as rows, count(distinct (generation, uid))::int as uids from placement',
  );
  assert.equal(rows[0].rows, rows[0].uids, 'nothing was written twice');
  assert.deepEqual(stateOf(host), before, 'a scan changes nothing');

  // As if it had been killed after the last message, before threads and categories were told.
  const told = async () => {
    const { categories } = (await app.call('GET', `${account}/categories`)).body;
    const threads = 'select count(*) filter (where thread <> id)::int as joined from message';
    return { categories, joined: (await app.database.query(threads)).rows[0].joined };
  };
  const settled = await told();
  assert.ok(settled.joined > 100);
  await app.database.query('update message set thread = id');
  await app.database.query('update account set threaded_to = 0');
  await app.database.query('update placement set category = 0');
  assert.notDeepEqual(await told(), settled);
  await app.scanned(account, true);
  assert.deepEqual(await told(), settled);
});

test('work that ends its worker three times in a row is not tried again by itself, and says why', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  host.faults.latencyMs = 2_000;
  await app.call('POST', `${account}/scans`, {});
  for (let kills = 0; kills < 3; kills++) {
    const taken = async () =>
      (await app.database.query('select max(takes) as takes from job where done_at is null')).rows[0].takes;
    await until(async () => (await taken()) === kills + 1);
    await app.killWorker();
    app.startWorker();
  }
  const given = await app.scanned(account);
  assert.deepEqual([given.state, given.problem.kind], ['failed', 'worker-died']);
  host.faults.latencyMs = 0;
  assert.equal((await app.scanned(account, true)).state, 'done', 'a person may try again');
});

test('a host that cuts every connection after some octets is read to the end, in one try', async () => {
  const host = await startStandIn();
  const relay = await Relay.before(host.plainPort);
  const app = await App.start();
  host.faults.dropAfterBytes = 60_000;
  const account = await app.signIn({ port: relay.port });
  const problems: unknown[] = [];
  await until(async () => {
    const { body } = await app.call('GET', `${account}/scans/last`);
    if (body.problem) problems.push(body.problem);
    return body.state === 'done';
  });
  assert.deepEqual(problems, []);
  assert.ok(relay.connections > 20, `${relay.connections} connections`);
  assert.deepEqual(await indexed(app, account), hosted(host));
});

test('a mailbox is scanned by itself as often as its owner says, once, and not while it can’t be signed in to', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start({ worker: false });
  const account = await app.signIn({ port: host.plainPort });
  const { database } = app;
  const due = () => beginDueScan({ database });
  const age = (hours: number) =>
    database.query(`update scan set state = 'done', created_at = now() - make_interval(hours => $1)`, [hours]);
  const every = (hours: number | null) => app.call('PATCH', `${account}/settings`, { scanEveryHours: hours });
  await age(100);
  assert.equal(await due(), false, 'nobody said so');
  for (const wrong of [0, 1.5, 721, '6']) assert.equal((await every(wrong as number)).status, 422, `${wrong}`);
  assert.equal((await every(6)).body.scanEveryHours, 6);
  await age(5);
  assert.equal(await due(), false);
  await age(7);
  await database.query(`update account set state = 'locked'`);
  assert.equal(await due(), false);
  await database.query(`update account set state = 'active'`);
  assert.deepEqual((await Promise.all([due(), due()])).sort(), [false, true], 'of two workers one begins it');
  assert.equal(await due(), false, 'it is open');
  await age(7);
  await app.call('DELETE', '/session');
  assert.equal(await due(), false, 'nobody is signed in, so nothing is kept to sign in with');
});

test('a password that is refused later locks the account, and says so', async () => {
  const host = await startStandIn();
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  host.faults.refuse = { command: 'AUTHENTICATE', code: 'AUTHENTICATIONFAILED', text: 'Not any more', times: 5 };
  const scan = await app.scanned(account, true);
  assert.deepEqual([scan.state, scan.problem.kind], ['failed', 'sign-in-needed']);
  assert.equal((await app.call('GET', '/session')).body.accounts[0].state, 'locked');
  // Nothing waits without a word, and the host is not asked again with what it refused.
  host.faults.refuse.times = 1;
  assert.equal((await app.scanned(account, true)).problem.kind, 'sign-in-needed');
  const run = await app.ran(account, { action: 'trash', where: 'size > 1 MB' });
  assert.deepEqual([run.state, run.problem.kind], ['failed', 'sign-in-needed']);
  const search = await app.call('GET', `${account}/messages?where=${encodeURIComponent('text ~ hive')}`);
  assert.deepEqual([search.status, search.body.type], [409, '/problems/search-failed']);
  assert.equal(host.faults.refuse.times, 1);
  host.faults.refuse = null;
  const { rows } = await app.database.query(`select account, stored_at::text as "storedAt" from credential`);
  await app.signIn({ port: host.plainPort });
  assert.equal((await app.scanned(account)).state, 'done');
  assert.equal((await app.finished(`${account}/runs/${run.id}`)).state, 'done');
  // Whoever still waited for a no to what was kept before locks nobody out.
  await lockAccount(app.database, rows[0].account, rows[0]);
  assert.equal((await app.call('GET', '/session')).body.accounts[0].state, 'active');
});

test('a scan shares its work among connections, and does without those that are refused', async () => {
  const host = await startStandIn();
  const relay = await Relay.before(host.plainPort);
  const app = await App.start();
  const account = await app.signIn({ port: relay.port });
  const first = await app.scanned(account);
  assert.deepEqual([first.state, first.outline.messages], ['done', 4949]);
  assert.equal(relay.connections, 1 + 3, 'one to sign in, three to scan');
  assert.deepEqual(await indexed(app, account), hosted(host));
  // The connections of the first are closed before its job is over.
  await until(async () => {
    const { rows } = await app.database.query('select 1 from job where done_at is null');
    return rows.length === 0;
  });
  await sleep(300);
  relay.roundTrips = 0;
  assert.equal((await app.scanned(account, true)).state, 'done');
  assert.ok(relay.roundTrips <= 10, `${relay.roundTrips} round trips for a scan with nothing changed`);
  await app.killWorker();

  const limited = await startStandIn();
  limited.faults.mostConnections = 1;
  const alone = await App.start();
  const other = await alone.signIn({ port: limited.plainPort });
  assert.equal((await alone.scanned(other)).state, 'done');
  assert.deepEqual(await indexed(alone, other), hosted(limited));
});

test('a response that is malformed, or far too long, costs its message’s details and nothing else', async () => {
  const host = await startStandIn({ scenario: tinyScenario() });
  host.faults.garbleEvery = 150;
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  assert.equal((await app.scanned(account)).state, 'done');
  assert.deepEqual(await indexed(app, account), hosted(host));
  assert.deepEqual(await flagsOf(app), flagsAt(host));
  const { rows } = await app.database.query(
    `select m.flaws, p.uid from placement p join message m on m.account = p.account and m.id = p.message`,
  );
  for (const { uid, flaws } of rows)
    if (uid % 150 <= 1) assert.deepEqual(flaws, ['date', 'from', 'structure'], `${uid}`);
    else assert.ok(!flaws.includes('structure'), `${uid}`);
});
