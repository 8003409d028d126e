import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { join } from 'node:path';
import { after, test } from 'node:test';
import type { HostedMailbox } from '../../stand-in/scenario/host';
import { hostedMailboxes } from '../../stand-in/scenario/host';
import { DOVECOT_OPERATOR, DOVECOT_PASSWORD, dovecotClient, startDovecot } from '../dovecot';
import { App, cleanUp, ROOT, SHORT_LEASE, startStandIn, tinyScenario, until } from '../harness';
import { Relay } from '../relay';

after(cleanUp);

const ALL = hostedMailboxes('2026-11-20', 'small');
const named = (start: string) => ALL.find(({ user }) => user.startsWith(`${start}@`)) as HostedMailbox;
const WARDEN = { user: 'warden', password: 'keys and lists' };

/** Signs an operator in as another browser would; gives the path of their calls and the cookie. */
async function operator(app: App, body: Record<string, unknown>) {
  app.forgetCookie();
  const answer = await app.call('POST', '/operators', { host: '127.0.0.1', security: 'none', ...body });
  assert.equal(answer.status, 201, JSON.stringify(answer.body));
  app.keepCookies(answer.headers);
  return { base: `/operators/${answer.body.operator.id}`, cookie: app.cookie };
}

/** Waits until nothing of an operator's is being measured. */
async function measured(app: App, base: string): Promise<any[]> {
  let found: any;
  await until(async () => {
    found = (await app.call('GET', `${base}/mailboxes`)).body;
    return found.measuring === 0;
  });
  return found.mailboxes;
}

async function addSheet(app: App, base: string, users: readonly string[]): Promise<void> {
  const sheet = ['address', ...users].join('\n');
  const added = await app.call('POST', `${base}/sheet`, { sheet, apply: true });
  assert.deepEqual([added.status, added.body.issues, added.body.added], [200, [], users.length]);
}

test('an operator measures what the host lets them, reads no mail for it, and opens a mailbox with a reason alone', async () => {
  const hosted = [named('plots'), named('bees'), named('hut')];
  const host = await startStandIn({
    scenario: tinyScenario(),
    hosted,
    operators: [{ ...WARDEN, opens: [named('plots').user, named('bees').user] }],
  });
  const relay = await Relay.before(host.plainPort);
  const app = await App.start();
  for (const [mailbox, password, field] of [
    [undefined, WARDEN.password, 'password'],
    [named('hut').user, WARDEN.password, 'password'],
    [named('plots').user, 'wrong', 'password'],
  ]) {
    const at = { host: '127.0.0.1', port: relay.port, security: 'none', user: WARDEN.user };
    const refused = await app.call('POST', '/operators', { ...at, password, mailbox });
    assert.deepEqual(
      [refused.status, refused.body.errors?.[0].field],
      [422, field],
      'the right is asked of the server',
    );
  }
  const { base } = await operator(app, { port: relay.port, ...WARDEN, mailbox: named('plots').user });
  await addSheet(
    app,
    base,
    hosted.map(({ user }) => user),
  );
  const [plots, bees, hut] = await measured(app, base);
  const { scenario } = named('plots');
  const octets = scenario.notMail + scenario.folders.reduce((sum, { outline }) => sum + (outline?.bytes ?? 0), 0);
  assert.equal(plots.measured.bytes.used, Math.ceil(octets / 1024) * 1024);
  assert.deepEqual(plots.states, ['full']);
  assert.equal(
    bees.measured.messages.used,
    named('bees').scenario.folders.reduce((sum, { outline }) => sum + (outline?.messages ?? 0), 0),
  );
  assert.deepEqual([hut.measured, hut.states, hut.problem.kind], [null, ['not-signed-in'], 'password-refused']);
  assert.doesNotMatch(relay.said, /SELECT|EXAMINE|FETCH|SEARCH/, 'quota and STATUS are all that was asked');
  const { rows } = await app.database.query('select count(*)::int as accounts from account');
  assert.equal(rows[0].accounts, 0, 'measuring makes no account');
  const kept = (await app.database.query('select sealed from host_operator_credential')).rows[0].sealed;
  assert.ok(!kept.toString('latin1').includes(WARDEN.password));

  const open = `${base}/mailboxes/${bees.id}/openings`;
  assert.equal((await app.call('POST', open, { reason: '  ' })).status, 422);
  const opened = await app.call('POST', open, { reason: 'The owner can’t find the invoices.' });
  assert.equal(opened.status, 201, JSON.stringify(opened.body));
  app.keepCookies(opened.headers);
  const account = `/accounts/${opened.body.account.id}`;
  assert.equal((await app.scanned(account)).state, 'done');
  const again = (await app.call('GET', `${base}/mailboxes`)).body.mailboxes;
  assert.deepEqual(
    again.map(({ account: id }: { account: number | null }) => id),
    [null, opened.body.account.id, null],
  );
  const acts = (await app.call('GET', `${base}/acts`)).body.acts;
  assert.deepEqual(
    acts.map(({ user, what, reason }: any) => [user, what, reason]),
    [[bees.user, 'opened', 'The owner can’t find the invoices.']],
  );

  // Signed out, nothing of theirs is kept to sign in with, and nothing is measured any more.
  await app.call('DELETE', `/session${base}`);
  assert.equal((await app.call('GET', `${base}/mailboxes`)).status, 404);
  assert.equal((await app.database.query('select 1 from host_operator_credential')).rowCount, 0);
});

test('two operators and two owners see exactly what they may', async () => {
  const [plots, bees, shows] = [named('plots'), named('bees'), named('shows')];
  const warden = { ...WARDEN, opens: [plots.user, bees.user] };
  const porter = { user: 'porter', password: 'the other keys', opens: [bees.user, shows.user] };
  const host = await startStandIn({
    scenario: tinyScenario(),
    hosted: [plots, bees, shows],
    operators: [warden, porter],
  });
  const app = await App.start();
  const port = host.plainPort;
  const open = async (base: string, user: string, reason: string) => {
    const { mailboxes } = (await app.call('GET', `${base}/mailboxes`)).body;
    const { id } = mailboxes.find((each: { user: string }) => each.user === user);
    const answer = await app.call('POST', `${base}/mailboxes/${id}/openings`, { reason });
    app.keepCookies(answer.headers);
    return answer;
  };
  const people: Record<string, { base: string; cookie: string; account?: string }> = {};
  for (const [name, who, may, mayNot] of [
    ['warden', warden, plots.user, shows.user],
    ['porter', porter, shows.user, plots.user],
  ] as const) {
    const { base } = await operator(app, { port, user: who.user, password: who.password, mailbox: bees.user });
    await addSheet(app, base, [plots.user, bees.user, shows.user]);
    const found = await measured(app, base);
    const seen = found.filter(({ measured: figures }) => figures !== null).map(({ user }) => user);
    assert.deepEqual(
      seen,
      [plots.user, bees.user, shows.user].filter((user) => user === may || user === bees.user),
    );
    assert.equal((await open(base, mayNot, 'I should like to look')).status, 422, 'the server says who may');
    const opened = await open(base, bees.user, `The ${name} counts the hives.`);
    assert.equal(opened.status, 201);
    people[name] = { base, cookie: app.cookie, account: `/accounts/${opened.body.account.id}` };
  }
  for (const owner of [plots, bees]) {
    app.forgetCookie();
    const account = await app.signIn({ port, user: owner.user, password: owner.password });
    people[owner.user] = { base: '', cookie: app.cookie, account };
  }
  const told = async (name: string) => {
    const { account, cookie } = people[name] as { account: string; cookie: string };
    const { acts } = (await app.call('GET', `${account}/ledger/others`, undefined, { cookie })).body;
    return acts.map(({ by, reason }: { by: string; reason: string }) => `${by}: ${reason}`);
  };
  assert.deepEqual(await told(bees.user), [
    'porter: The porter counts the hives.',
    'warden: The warden counts the hives.',
  ]);
  assert.deepEqual(await told(plots.user), [], 'what was refused opened nothing');
  assert.deepEqual(await told('warden'), ['warden: The warden counts the hives.'], 'an operator sees their own');

  // Nobody reaches what is another's: neither the list, nor a mailbox, nor what was done.
  for (const [name, { cookie, account }] of Object.entries(people))
    for (const [other, theirs] of Object.entries(people)) {
      if (other === name) continue;
      for (const path of ['/mailboxes', '/acts', '/sheet', '/mailboxes/1/measurements'])
        if (theirs.base)
          assert.equal(
            (await app.call('GET', `${theirs.base}${path}`, undefined, { cookie })).status,
            404,
            `${name} ${other}`,
          );
      if (theirs.base)
        for (const [method, path] of [
          ['POST', '/measurements'],
          ['POST', '/mailboxes/2/openings'],
          ['PATCH', '/mailboxes/1'],
          ['DELETE', '/mailboxes/1'],
          ['DELETE', ''],
        ] as const)
          assert.equal(
            (
              await app.call(method, `${theirs.base}${path}`, method === 'DELETE' ? undefined : { reason: 'why not' }, {
                cookie,
              })
            ).status,
            404,
          );
      for (const path of ['/level', '/messages', '/ledger/others', '/runs'])
        if (theirs.account !== account)
          assert.equal(
            (await app.call('GET', `${theirs.account}${path}`, undefined, { cookie })).status,
            404,
            `${name} ${other} ${path}`,
          );
    }
  assert.equal((await app.call('GET', `${people.warden?.base}/mailboxes`, undefined, { cookie: '' })).status, 401);
});

test('a mailbox at another server needs its own password, and the operator’s never goes there', async () => {
  const [host, elsewhere] = [
    await startStandIn({ scenario: tinyScenario(), hosted: [named('plots')], operators: [WARDEN] }),
    await startStandIn({ scenario: tinyScenario(), hosted: [named('shows')] }),
  ];
  const relay = await Relay.before(elsewhere.plainPort);
  const app = await App.start();
  const { base } = await operator(app, { port: host.plainPort, ...WARDEN, mailbox: named('plots').user });
  const sheet = `address,server\n${named('shows').user},127.0.0.1:${relay.port}`;
  assert.equal((await app.call('POST', `${base}/sheet`, { sheet, apply: true })).body.mailboxes[0].needsPassword, true);
  const [shows] = await measured(app, base);
  assert.deepEqual([shows.way, shows.states, relay.connections], ['none', ['not-signed-in'], 0]);
  const place = { user: named('shows').user, host: '127.0.0.1', port: relay.port, security: 'none' };
  assert.equal((await app.call('POST', `${base}/mailboxes`, place)).status, 422, 'without a password');
  assert.equal(
    (await app.call('POST', `${base}/mailboxes`, { ...place, password: 'wrong' })).status,
    409,
    'it is there already',
  );
  const change = (body: object) => app.call('PATCH', `${base}/mailboxes/${shows.id}`, body);
  // The sheet took it to be at a server with TLS, which this one is not.
  assert.equal((await change({ password: named('shows').password })).status, 422);
  assert.equal((await app.call('DELETE', `${base}/mailboxes/${shows.id}`)).status, 204);
  assert.equal(
    (await app.call('POST', `${base}/mailboxes`, { ...place, password: 'wrong' })).body.errors[0].field,
    'password',
  );
  const added = await app.call('POST', `${base}/mailboxes`, { ...place, password: named('shows').password });
  assert.equal(added.status, 201, JSON.stringify(added.body));
  const [now] = await measured(app, base);
  assert.deepEqual([now.way, now.measured.bytes.limitBy], ['password', 'server']);
  assert.ok(!relay.said.includes(WARDEN.password));
});

test('a host without an extension is measured by what it tells, and what it does not tell is not made up', async () => {
  const empty = { ...named('compost').scenario, folders: [{ name: 'INBOX' }], notMail: 0 };
  const nobody = { user: `${'n'.repeat(280)}@marshnet.example`, password: 'x', scenario: empty, closed: false };
  const host = await startStandIn({ scenario: tinyScenario(), hosted: [named('plots'), nobody], operators: [WARDEN] });
  const app = await App.start();
  const { base } = await operator(app, { port: host.plainPort, ...WARDEN, mailbox: named('plots').user });
  await addSheet(app, base, [named('plots').user, nobody.user]);
  const [whole, none] = await measured(app, base);
  assert.deepEqual(
    [none.measured.bytes.used, none.measured.messages.used, none.states],
    [0, 0, ['fine']],
    'an empty one',
  );
  const again = async (hide: string[]) => {
    host.faults.hide = hide;
    await app.call('POST', `${base}/measurements`, {});
    const [plots] = await measured(app, base);
    assert.equal(plots.problem, null, hide.join());
    return plots.measured;
  };
  const figures = ({ bytes, messages, trash, unseen }: any) => ({ bytes, messages, trash, unseen });
  assert.deepEqual(figures(await again(['LIST-STATUS'])), figures(whole.measured));
  const uncounted = await again(['STATUS=SIZE', 'LIST-STATUS']);
  assert.deepEqual(
    [uncounted.bytes.used, uncounted.notMail, uncounted.trash.bytes],
    [whole.measured.bytes.used, null, null],
  );
  const noQuota = await again(['QUOTA']);
  assert.deepEqual([noQuota.bytes.usedBy, noQuota.bytes.limit, noQuota.share], ['counted', null, null]);
  assert.equal(
    (await again(['QUOTA', 'STATUS=SIZE', 'LIST-STATUS'])).bytes,
    null,
    'nothing is told, rather than nothing used',
  );
});

test('fifty mailboxes are measured once each, though workers are killed and the database ends all sessions in between', async () => {
  const hosted = Array.from({ length: 50 }, (_, index) => ({
    ...named('compost'),
    user: `plot${index}@marshnet.example`,
  }));
  const host = await startStandIn({ scenario: tinyScenario(), hosted, operators: [WARDEN] });
  host.faults.latencyMs = 60;
  const app = await App.start({ env: SHORT_LEASE });
  const { base } = await operator(app, { port: host.plainPort, ...WARDEN, mailbox: hosted[0]?.user });
  await addSheet(
    app,
    base,
    hosted.map(({ user }) => user),
  );
  const count = async () =>
    (await app.database.query('select count(*)::int as count from host_measurement')).rows[0].count;
  const some = (least: number) => until(async () => (await count().catch(() => 0)) >= least);
  await some(5);
  await app.killWorker();
  app.addWorker();
  app.startWorker();
  await some(18);
  await app.endDatabaseSessions();
  await some(32);
  await app.killExtraWorker();
  const found = await measured(app, base);
  assert.equal(found.length, 50);
  for (const { user, measured: figures, problem, states } of found)
    assert.deepEqual(
      [problem, figures?.messages.used, states],
      [null, found[0].measured.messages.used, ['fine']],
      user,
    );
  assert.equal(await count(), 50);
  const left = await app.database.query(
    'select 1 from host_mailbox where worker is not null or lease_until is not null',
  );
  assert.equal(left.rowCount, 0);
});

test('an operator whose password is good no more is locked before the host shuts them out; one mailbox that is refused locks nobody', async () => {
  const hosted = Array.from({ length: 30 }, (_, index) => ({
    ...named('compost'),
    user: `plot${index}@marshnet.example`,
    closed: index > 0,
  }));
  const host = await startStandIn({ scenario: tinyScenario(), hosted, operators: [WARDEN] });
  const app = await App.start();
  const relay = await Relay.before(host.plainPort);
  const { base } = await operator(app, { port: relay.port, ...WARDEN, mailbox: hosted[0]?.user });
  await addSheet(
    app,
    base,
    hosted.map(({ user }) => user),
  );
  const found = await measured(app, base);
  assert.equal(found.filter(({ problem }) => problem?.kind === 'password-refused').length, 29);
  assert.equal((await app.call('GET', '/operators')).body.operators[0].state, 'active', 'the first one still opens');
  host.faults.refuseSignIn = true;
  relay.connections = 0;
  await app.call('POST', `${base}/measurements`, {});
  await until(async () => (await app.call('GET', '/operators')).body.operators[0].state === 'locked');
  assert.ok(relay.connections <= 20, `${relay.connections} tries before nobody tried any more`);
  assert.equal((await app.call('POST', `${base}/measurements`, {})).status, 409);
  host.faults.refuseSignIn = false;
  await operator(app, { port: relay.port, ...WARDEN, mailbox: hosted[0]?.user });
  assert.equal((await measured(app, base))[0].problem, null);
});

test('master users of Dovecot: figures are those that doveadm tells', async () => {
  const users = ['plots', 'bees', 'hut'];
  const dovecot = await startDovecot(5, [], undefined, undefined, '', users);
  for (const [index, name] of users.entries()) {
    const client = dovecotClient(dovecot.plainPort, name);
    await client.connect();
    for (let n = 0; n <= index * 4; n++) {
      const letter = `From: a@marsh.example\r\nSubject: ${n}\r\n\r\n${'mud and reeds\r\n'.repeat(900 * (n + 1))}`;
      await client.append(n % 3 === 2 ? 'INBOX.Trash' : 'INBOX', letter, n % 2 === 0 ? ['\\Seen'] : []);
    }
    await client.logout();
  }
  const app = await App.start();
  const { user, password } = DOVECOT_OPERATOR;
  const { base } = await operator(app, { port: dovecot.plainPort, user, password, mailbox: 'plots' });
  await addSheet(app, base, [...users, 'nobody']);
  const found = await measured(app, base);
  const doveadm = (...args: string[]) =>
    execFileSync('doveadm', ['-c', dovecot.configuration, ...args], { encoding: 'utf8' });
  for (const name of users) {
    const { measured: figures } = found.find((each) => each.user === name);
    const quota = doveadm('-f', 'flow', 'quota', 'get', '-u', name);
    const [, used, limit] = /Type=STORAGE Value=(\d+) Limit=(\d+)/.exec(quota) as RegExpExecArray;
    assert.deepEqual([figures.bytes.used, figures.bytes.limit], [Number(used) * 1024, Number(limit) * 1024], name);
    const sums = { messages: 0, vsize: 0 };
    for (const line of doveadm('-f', 'flow', 'mailbox', 'status', '-u', name, 'messages vsize', 'INBOX', 'INBOX.*')
      .trim()
      .split('\n')) {
      sums.messages += Number(/messages=(\d+)/.exec(line)?.[1] ?? 0);
      sums.vsize += Number(/vsize=(\d+)/.exec(line)?.[1] ?? 0);
    }
    assert.equal(figures.messages.used, sums.messages, name);
    const [, unseen] = /unseen=(\d+)/.exec(
      doveadm('-f', 'flow', 'mailbox', 'status', '-u', name, 'unseen', 'INBOX'),
    ) as RegExpExecArray;
    assert.equal(figures.unseen, Number(unseen), name);
    const [, trash] = /vsize=(\d+)/.exec(
      doveadm('-f', 'flow', 'mailbox', 'status', '-u', name, 'vsize', 'INBOX.Trash'),
    ) as RegExpExecArray;
    assert.equal(figures.trash.bytes, Number(trash), name);
    assert.equal(figures.notMail, 0, `${name}: all octets of the quota are in folders`);
    assert.equal(Math.ceil(sums.vsize / 1024), Number(used));
  }
  assert.deepEqual(found.find((each) => each.user === 'nobody').states, ['not-signed-in']);
  const own = await app.call('POST', `${base}/mailboxes`, { user: 'bees', password: DOVECOT_PASSWORD });
  assert.equal(own.status, 409);
});

test('sheets that Python’s csv writes in its dialects are read alike, and it reads ours', async () => {
  const host = await startStandIn({ scenario: tinyScenario(), hosted: [named('plots')], operators: [WARDEN] });
  const app = await App.start();
  const { base } = await operator(app, { port: host.plainPort, ...WARDEN, mailbox: named('plots').user });
  const rows = [
    ['note', 'address', 'limit', 'further'],
    ['the plots, "all" of them;\tand more\nin two lines', named('plots').user, '5 GiB and 20,000 messages', 7],
    ['', 'bees@marshnet.example', '', ''],
    ['=SUM(A1:A9)', 'formula@marshnet.example', '1.5 MB', 'Ä'],
  ];
  const python = (args: string[], input: string) =>
    execFileSync('python3', [join(ROOT, 'test/integration/sheets.py'), ...args], { input, encoding: 'utf8' });
  const written = JSON.parse(python(['write'], JSON.stringify(rows))) as Record<string, string>;
  const readings = await Promise.all(
    Object.entries(written).map(async ([dialect, sheet]) => {
      const { status, body } = await app.call('POST', `${base}/sheet`, { sheet });
      assert.equal(status, 200);
      assert.deepEqual(body.issues, [], dialect);
      return body.mailboxes.map(({ line: _, ...mailbox }: { line: number }) => mailbox);
    }),
  );
  for (const reading of readings) assert.deepEqual(reading, readings[0]);
  assert.deepEqual(
    readings[0].map(({ user, bytes, messages, note }: Record<string, unknown>) => [user, bytes, messages, note]),
    [
      [named('plots').user, 5 * 2 ** 30, 20_000, rows[1]?.[0]],
      ['bees@marshnet.example', null, null, ''],
      ['formula@marshnet.example', 1_500_000, null, '=SUM(A1:A9)'],
    ],
  );
  await app.call('POST', `${base}/sheet`, { sheet: written.excel, apply: true });
  const mailboxes = await measured(app, base);
  const response = await fetch(`${app.origin}/api${base}/sheet`, { headers: { cookie: app.cookie } });
  const found = JSON.parse(python(['read'], await response.text())) as Record<string, string>[];
  assert.deepEqual(
    found.map(({ address }) => address),
    mailboxes.map(({ user }) => user),
  );
  assert.deepEqual(
    found.map(({ used, messages, states }) => [used, messages, states]),
    mailboxes.map(({ measured: figures, states }) => [
      `${figures?.bytes.used ?? ''}`,
      `${figures?.messages.used ?? ''}`,
      states.join(' '),
    ]),
  );
  assert.equal(found[2]?.note, "'=SUM(A1:A9)", 'no spreadsheet runs it');
  // Our own sheet can be handed in again, and changes nothing.
  const back = await app.call('POST', `${base}/sheet`, {
    sheet: await (await fetch(`${app.origin}/api${base}/sheet`, { headers: { cookie: app.cookie } })).text(),
    apply: true,
  });
  assert.deepEqual([back.body.issues, back.body.added], [[], 0]);
});
