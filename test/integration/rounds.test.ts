import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import type { StandIn } from '../../stand-in/host';
import type { Folder, Placed } from '../../stand-in/mailbox/folder';
import type { Mailbox } from '../../stand-in/mailbox/mailbox';
import { type HostedMailbox, hostedMailboxes } from '../../stand-in/scenario/host';
import { App, cleanUp, SHORT_LEASE, startStandIn, tinyScenario, until } from '../harness';
import { Relay } from '../relay';

after(cleanUp);

const TODAY = new Date().toISOString().slice(0, 10);
const ALL = hostedMailboxes(TODAY, 'small');
const named = (start: string) => ALL.find(({ user }) => user.startsWith(`${start}@`)) as HostedMailbox;
const WARDEN = { user: 'warden', password: 'keys and lists' };
const DAY = 86_400;
const REASON = 'The host is almost full.';

/** An operator who looks after some mailboxes, and what they call. */
class Warden {
  private constructor(
    readonly app: App,
    readonly host: StandIn,
    readonly relay: Relay,
    readonly base: string,
  ) {}

  static async start(hosted: readonly HostedMailbox[], env: Record<string, string> = {}): Promise<Warden> {
    const host = await startStandIn({ scenario: tinyScenario(), hosted, operators: [WARDEN] });
    const relay = await Relay.before(host.plainPort);
    const app = await App.start({ env });
    const at = { host: '127.0.0.1', port: relay.port, security: 'none', ...WARDEN, mailbox: hosted[0]?.user };
    const answer = await app.call('POST', '/operators', at);
    assert.equal(answer.status, 201, JSON.stringify(answer.body));
    app.keepCookies(answer.headers);
    const base = `/operators/${answer.body.operator.id}`;
    const sheet = ['address', ...hosted.map(({ user }) => user)].join('\n');
    assert.equal((await app.call('POST', `${base}/sheet`, { sheet, apply: true })).body.added, hosted.length);
    return new Warden(app, host, relay, base);
  }

  call(method: string, path: string, body?: unknown) {
    return this.app.call(method, `${this.base}${path}`, body);
  }

  async ids(): Promise<Map<string, number>> {
    const { mailboxes } = (await this.call('GET', '/mailboxes')).body;
    return new Map(mailboxes.map(({ user, id }: { user: string; id: number }) => [user, id]));
  }

  /** Begins a round through mailboxes; gives its path. */
  async begin(body: Record<string, unknown>, users?: readonly string[]): Promise<string> {
    const ids = await this.ids();
    const mailboxes = users ? users.map((user) => ids.get(user)) : [...ids.values()];
    const made = await this.call('POST', '/rounds', { reason: REASON, mailboxes, ...body });
    assert.equal(made.status, 201, JSON.stringify(made.body));
    return `/rounds/${made.body.round.id}`;
  }

  /** Waits until a round is in a state. */
  async until(round: string, state: string): Promise<any> {
    let found: any;
    await until(async () => {
      found = (await this.call('GET', round).catch(() => undefined))?.body ?? found;
      return found?.round?.state === state;
    }).catch(() => assert.fail(`${round} is ${JSON.stringify(found)}`));
    return found;
  }

  async carryOut(round: string, body: Record<string, unknown> = {}): Promise<any> {
    const { asked } = (await this.call('GET', round)).body.round;
    return this.call('POST', `${round}/carry-out`, { expect: asked, ...body });
  }

  folder(user: string, name: string): Placed[] {
    return this.host.mailboxOf(user)?.folder(name)?.messages ?? [];
  }

  everything(user: string): Placed[] {
    return [...(this.host.mailboxOf(user)?.folders.values() ?? [])].flatMap(({ messages }) => messages);
  }

  /** What the owner of a mailbox reads that others did in it. */
  async told(of: HostedMailbox): Promise<any[]> {
    const cookie = this.app.cookie;
    this.app.forgetCookie();
    const account = await this.app.signIn({ port: this.relay.port, user: of.user, password: of.password });
    const { acts } = (await this.app.call('GET', `${account}/ledger/others`)).body;
    this.app.cookie = cookie;
    return acts;
  }
}

const sumOf = (placed: readonly Placed[]) => ({
  messages: placed.length,
  bytes: placed.reduce((sum, { item }) => sum + item.size, 0),
});

test('a purge through several mailboxes takes what lay in trash and junk long enough, and nothing else', async () => {
  const hosted = [named('shop'), named('webmaster'), named('abuse')];
  const warden = await Warden.start(hosted);
  const before = Date.now() / 1000 - 10 * DAY;
  const expected = hosted.map(({ user }) => {
    const old = [
      ...warden.folder(user, 'Trash').filter(({ saved }) => saved < before),
      ...warden.folder(user, 'Junk').filter(({ received }) => received < before),
    ];
    // What somebody flagged is kept by the guard that every account has.
    for (const placed of old.slice(0, 3)) placed.flags.add('flagged');
    return { user, going: old.slice(3), all: warden.everything(user) };
  });
  const terms = { days: 10, trash: true, junk: true };
  const round = await warden.begin({ kind: 'purge', terms });
  const { round: asked, mailboxes } = await warden.until(round, 'asking');
  for (const { user, going } of expected) {
    const found = mailboxes.find((each: { user: string }) => each.user === user);
    const { messages, bytes, state, tried } = found;
    assert.deepEqual({ messages, bytes, state }, { ...sumOf(going), state: 'ready' }, user);
    assert.equal(tried.trash.messages + tried.junk.messages, messages);
    assert.deepEqual([tried.kept, tried.undated], [3, 0]);
    assert.ok(found.messages > 0);
  }
  assert.deepEqual(asked.asked, sumOf(expected.flatMap(({ going }) => going)));
  assert.ok(!/ (STORE|EXPUNGE|MOVE|COPY) /.test(warden.relay.said), 'nothing changes before it was decided');
  // One is left out of it.
  const chosen = mailboxes.filter(({ user }: { user: string }) => user !== named('abuse').user);
  const amount = sumOf(expected.slice(0, 2).flatMap(({ going }) => going));
  const refused = await warden.call('POST', `${round}/carry-out`, { expect: { ...amount, messages: 1 } });
  assert.deepEqual([refused.status, refused.body.type.split(/[:/]/).at(-1)], [409, 'not-as-expected']);
  const begun = await warden.call('POST', `${round}/carry-out`, {
    mailboxes: chosen.map(({ mailbox }: { mailbox: number }) => mailbox),
    expect: amount,
  });
  assert.equal(begun.status, 200, JSON.stringify(begun.body));
  const ended = await warden.until(round, 'ended');
  assert.deepEqual(ended.round.states, { done: 2, left: 1 });
  assert.deepEqual(ended.round.done, amount);
  for (const { user, going, all } of expected) {
    const gone = new Set(user === named('abuse').user ? [] : going);
    assert.deepEqual(
      warden.everything(user).map(({ ref }) => ref),
      all.filter((each) => !gone.has(each)).map(({ ref }) => ref),
      user,
    );
  }
  // Its owner reads why, and what was done.
  const acts = await warden.told(named('shop'));
  assert.deepEqual(
    acts.map(({ what, by, reason, action, done }: any) => [what, by, reason ?? action, done?.messages]),
    [
      ['ended', 'warden', 'purge', expected[0]?.going.length],
      ['asked', 'warden', 'purge', undefined],
      ['opened', 'warden', REASON, undefined],
    ],
  );
  const again = await warden.carryOut(round);
  assert.equal(again.status, 409, 'a round is decided once');
});

test('a departed person’s mailbox is saved whole, checked, and emptied; what is not saved stays', async () => {
  const left = named('minutes');
  const warden = await Warden.start([left, named('compost')]);
  const all = warden.everything(left.user);
  const round = await warden.begin({ kind: 'empty' }, [left.user]);
  const asked = await warden.until(round, 'asking');
  assert.deepEqual(asked.round.asked, sumOf(all));
  // What comes meanwhile was not saved, so it is not deleted.
  const mailbox = warden.host.mailboxOf(left.user) as Mailbox;
  const late = mailbox.append(mailbox.folder('INBOX') as Folder, Buffer.from('Subject: late\r\n\r\nhello\r\n'), 1, []);
  assert.equal((await warden.carryOut(round)).status, 200);
  const ended = await warden.until(round, 'ended');
  assert.deepEqual(ended.round.states, { done: 1 });
  assert.deepEqual(ended.round.done, sumOf(all));
  assert.deepEqual(warden.everything(left.user), [late]);
  const { rows } = await warden.app.database.query(
    `select count(*)::int as saved, count(checked_at)::int as checked from bag_file where reason is null`,
  );
  assert.deepEqual(rows[0], { saved: all.length, checked: all.length });
});

test('one standing lot is tried in several mailboxes, started in those that are chosen, and stopped in all', async () => {
  const hosted = [named('abuse'), named('info'), named('webmaster')];
  const warden = await Warden.start(hosted);
  const terms = {
    label: 'Old junk',
    where: 'folder = Junk and date < 2024-01-01',
    fate: 'trash',
    rhythm: { unit: 'day', every: 1, day: null, from: TODAY, at: '03:00' },
  };
  const bad = { kind: 'standing', reason: REASON, mailboxes: [1], terms: { ...terms, where: 'date<yesterdayish(' } };
  assert.equal((await warden.call('POST', '/rounds', bad)).status, 422);
  const round = await warden.begin({ kind: 'standing', terms });
  const { mailboxes } = await warden.until(round, 'asking');
  const end = Date.parse('2024-01-01T00:00:00Z') / 1000;
  for (const { user, messages, bytes } of mailboxes) {
    const old = warden.folder(user, 'Junk').filter(({ received }) => received < end);
    assert.ok(old.length > 5);
    assert.deepEqual({ messages, bytes }, sumOf(old), user);
  }
  const [first, second] = mailboxes;
  const decide = () =>
    warden.call('POST', `${round}/carry-out`, {
      mailboxes: [first.mailbox, second.mailbox],
      expect: { messages: first.messages + second.messages, bytes: first.bytes + second.bytes },
    });
  const unkept = await decide();
  assert.deepEqual([unkept.status, unkept.body.type.split(/[:/]/).at(-1)], [409, 'password-not-kept']);
  await warden.call('PATCH', '', { daily: true });
  assert.equal((await decide()).status, 200);
  const ended = await warden.until(round, 'ended');
  assert.deepEqual([ended.round.states, ended.round.on], [{ done: 2, left: 1 }, 2]);
  const lots = async () =>
    (await warden.app.database.query('select state, label from standing_lot order by state, label')).rows;
  assert.deepEqual(
    (await lots()).map(({ state, label }) => [state, label]),
    [
      ['on', terms.label],
      ['on', terms.label],
    ],
    'what was left has none',
  );
  // It goes by itself at its next date, while nobody is signed in.
  await warden.app.database.query('update standing_lot set next_at = now()');
  const cookie = warden.app.cookie;
  await warden.app.call('DELETE', '/session');
  const gone = () => hosted.map(({ user }) => warden.everything(user).filter(({ received }) => received < end).length);
  await until(async () => {
    const { rows } = await warden.app.database.query(`select 1 from standing_date where state = 'done'`);
    return rows.length === 2;
  });
  for (const { user } of [first, second])
    assert.deepEqual(
      warden.folder(user, 'Junk').filter(({ received }) => received < end),
      [],
    );
  assert.ok(
    gone().every((count) => count > 0),
    'they lie in the trash',
  );
  warden.app.cookie = cookie;
  const at = { host: '127.0.0.1', port: warden.relay.port, security: 'none', ...WARDEN, mailbox: hosted[0]?.user };
  warden.app.forgetCookie();
  const back = await warden.app.call('POST', '/operators', at);
  warden.app.keepCookies(back.headers);
  const taken = (await warden.call('GET', '/rounds')).body.rounds[0].taken;
  assert.deepEqual(taken, {
    messages: first.messages + second.messages,
    bytes: first.bytes + second.bytes,
  });
  assert.equal((await warden.call('POST', `${round}/stop`)).status, 200);
  assert.deepEqual(
    (await lots()).map(({ state }) => state),
    ['off', 'off'],
  );
});

test('twenty mailboxes are purged as if undisturbed, though workers are killed and the database ends all sessions in between', async () => {
  const hosted = Array.from({ length: 20 }, (_, index) => ({
    ...named('compost'),
    user: `plot${index}@marshnet.example`,
  }));
  const warden = await Warden.start(hosted, SHORT_LEASE);
  const { app, host } = warden;
  const before = Date.now() / 1000 - 5 * DAY;
  const expected = hosted.map(({ user }) =>
    [
      ...warden.folder(user, 'Trash').filter(({ saved }) => saved < before),
      ...warden.folder(user, 'Junk').filter(({ received }) => received < before),
    ].map(({ ref }) => ref),
  );
  const whole = hosted.map(({ user }) => warden.everything(user).map(({ ref }) => ref));
  host.faults.latencyMs = 20;
  const disturb = async (state: string, steps: readonly [number, () => Promise<void>][]) => {
    for (const [least, act] of steps) {
      await until(async () => {
        const { rows } = await app.database
          .query(`select count(*)::int as count from round_mailbox where state = '${state}'`)
          .catch(() => ({ rows: [{ count: 0 }] }));
        return rows[0].count >= least;
      });
      await act();
    }
  };
  const again = async () => {
    await app.killWorker();
    app.addWorker();
    app.startWorker();
  };
  const round = await warden.begin({ kind: 'purge', terms: { days: 5, trash: true, junk: true } });
  await disturb('ready', [
    [3, again],
    [8, () => app.endDatabaseSessions()],
    [14, () => app.killExtraWorker()],
  ]);
  await warden.until(round, 'asking');
  assert.equal((await warden.carryOut(round)).status, 200);
  await disturb('done', [
    [3, again],
    [8, () => app.endDatabaseSessions()],
    [14, () => app.killExtraWorker()],
  ]);
  const ended = await warden.until(round, 'ended');
  assert.deepEqual(ended.round.states, { done: 20 });
  for (const [index, { user }] of hosted.entries()) {
    const gone = new Set(expected[index]);
    assert.deepEqual(
      warden.everything(user).map(({ ref }) => ref),
      whole[index]?.filter((ref) => !gone.has(ref)),
      user,
    );
    assert.equal(ended.mailboxes.find((each: { user: string }) => each.user === user).done.messages, gone.size, user);
  }
  const { rows } = await app.database.query(
    `select (select count(*)::int from run) as runs, (select count(*)::int from lot where run is null) as lots,
       (select count(*)::int from ledger_entry where kind = 'opened') as opened`,
  );
  assert.deepEqual(
    rows[0],
    { runs: 20, lots: 0, opened: 40 },
    'each was opened once: told to the operator and to its owner',
  );
});

test('a mailbox that is refused, removed or in another round is left out, and a round that is stopped leaves nothing behind', async () => {
  const hosted = [named('abuse'), named('hut'), named('gate')];
  const warden = await Warden.start(hosted);
  const terms = { days: 0, trash: true, junk: true };
  const round = await warden.begin({ kind: 'purge', terms });
  const ids = await warden.ids();
  const another = await warden.call('POST', '/rounds', {
    reason: REASON,
    kind: 'empty',
    mailboxes: [ids.get(hosted[0]?.user as string)],
  });
  assert.deepEqual([another.status, another.body.type.split(/[:/]/).at(-1)], [409, 'nothing-to-do']);
  const { mailboxes } = await warden.until(round, 'asking');
  assert.deepEqual(
    mailboxes.map(({ user, state, problem }: any) => [user, state, problem?.kind]),
    [
      [named('abuse').user, 'ready', undefined],
      [named('gate').user, 'ready', undefined],
      [named('hut').user, 'failed', 'password-refused'],
    ],
  );
  assert.deepEqual(await warden.told(named('hut')), [], 'what was refused opened nothing');
  // Another operator reaches none of it.
  const cookie = warden.app.cookie;
  for (const [method, path] of [
    ['GET', '/rounds'],
    ['GET', round],
    ['POST', `${round}/carry-out`],
    ['POST', `${round}/stop`],
  ] as const)
    assert.equal((await warden.app.call(method, `${warden.base}${path}`, undefined, { cookie: '' })).status, 401);
  warden.app.cookie = cookie;
  const stopped = await warden.call('POST', `${round}/stop`);
  assert.deepEqual(
    [stopped.status, stopped.body.round.state, stopped.body.round.states],
    [200, 'stopped', { left: 2, failed: 1 }],
  );
  assert.equal((await warden.app.database.query('select 1 from lot')).rowCount, 0);
  assert.ok(!/ (STORE|EXPUNGE|MOVE|COPY) /.test(warden.relay.said));
  // What was left can be taken up by another round.
  const anew = await warden.begin({ kind: 'empty' }, [named('gate').user]);
  await warden.until(anew, 'asking');
});

test('deleting much asks for the operator’s password again', async () => {
  const warden = await Warden.start([named('abuse')], { TAMSEL_MAX_UNCONFIRMED_PURGE: '5' });
  const round = await warden.begin({ kind: 'purge', terms: { days: 0, trash: true, junk: true } });
  const { round: asked } = await warden.until(round, 'asking');
  assert.ok(asked.asked.messages > 5);
  await warden.app.database.query(`update session_operator set proved_at = now() - interval '1 hour'`);
  const unproven = await warden.carryOut(round);
  assert.deepEqual([unproven.status, unproven.body.errors[0].field], [403, 'password']);
  assert.equal((await warden.carryOut(round, { password: 'wrong' })).status, 422);
  assert.equal((await warden.carryOut(round, { password: WARDEN.password })).status, 200);
  assert.deepEqual((await warden.until(round, 'ended')).round.done, asked.asked);
});

test('signing out forgets what a round that waits was signed in with; signing in again carries it out', async () => {
  const [abuse] = [named('abuse')];
  const warden = await Warden.start([abuse]);
  const round = await warden.begin({ kind: 'purge', terms: { days: 0, trash: true, junk: true } });
  const { round: asked } = await warden.until(round, 'asking');
  const kept = async () =>
    (
      await warden.app.database.query(
        'select (select count(*)::int from credential) as accounts, (select count(*)::int from host_operator_credential) as operators',
      )
    ).rows[0];
  assert.deepEqual(await kept(), { accounts: 1, operators: 1 });
  await warden.app.call('DELETE', `/session${warden.base}`);
  // Whoever keeps house deletes what nobody needs.
  await warden.app.killWorker();
  warden.app.startWorker();
  await until(async () => (await kept()).accounts === 0);
  assert.deepEqual(await kept(), { accounts: 0, operators: 0 });
  warden.app.forgetCookie();
  const at = { host: '127.0.0.1', port: warden.relay.port, security: 'none', ...WARDEN, mailbox: abuse.user };
  warden.app.keepCookies((await warden.app.call('POST', '/operators', at)).headers);
  assert.equal((await warden.carryOut(round)).status, 200);
  const ended = await warden.until(round, 'ended');
  assert.deepEqual([ended.round.states, ended.round.done], [{ done: 1 }, asked.asked]);
  assert.deepEqual(warden.folder(abuse.user, 'Junk'), []);
});

test('what the host does not date stays in the trash, unless the day of receipt is to count', async () => {
  const [shop] = [named('shop')];
  const warden = await Warden.start([shop]);
  warden.host.faults.hide = ['SAVEDATE'];
  const old = (days: number) => {
    const before = Date.now() / 1000 - days * DAY;
    return warden.folder(shop.user, 'Trash').filter(({ received }) => received < before);
  };
  const terms = { days: 100, trash: true, junk: false };
  const first = await warden.begin({ kind: 'purge', terms });
  const nothing = await warden.until(first, 'ended');
  assert.deepEqual(nothing.round.states, { nothing: 1 });
  assert.equal(nothing.mailboxes[0].tried.undated, warden.folder(shop.user, 'Trash').length);
  const second = await warden.begin({ kind: 'purge', terms: { ...terms, byReceipt: true } });
  const { round: asked } = await warden.until(second, 'asking');
  assert.ok(asked.asked.messages > 0);
  assert.deepEqual(asked.asked, sumOf(old(100)));
});

test('a folder that is junk by its name alone is a guess, and a guess deletes nothing', async () => {
  const { scenario, ...info } = named('info');
  const folders = scenario.folders.map(({ use, ...folder }) =>
    use === '\\Junk' ? folder : { ...folder, ...(use ? { use } : {}) },
  );
  const unmarked = { ...info, scenario: { ...scenario, folders } };
  const warden = await Warden.start([unmarked]);
  assert.ok(warden.folder(unmarked.user, 'Junk').length > 50);
  const round = await warden.begin({ kind: 'purge', terms: { days: 0, trash: false, junk: true } });
  const ended = await warden.until(round, 'ended');
  assert.deepEqual(ended.round.states, { nothing: 1 });
});

test('terms that can’t be read are told at their place, and no round begins', async () => {
  const warden = await Warden.start([named('compost')]);
  const all = { reason: REASON, mailboxes: [1] };
  for (const body of [
    { kind: 'purge', terms: { days: -1, trash: true, junk: true }, ...all },
    { kind: 'purge', terms: { days: 3, trash: false, junk: false }, ...all },
    { kind: 'purge', terms: { days: 3, trash: true, junk: true }, ...all, mailboxes: [] },
    { kind: 'purge', terms: { days: 3, trash: true, junk: true }, ...all, reason: ' ' },
    { kind: 'everything', terms: {}, ...all },
    { kind: 'empty', terms: { days: 3 }, ...all },
  ]) {
    const refused = await warden.call('POST', '/rounds', body);
    assert.deepEqual([refused.status, refused.body.errors?.length > 0], [422, true], JSON.stringify(body));
  }
  const none = await warden.call('POST', '/rounds', { kind: 'empty', ...all, mailboxes: [99] });
  assert.equal(none.status, 409);
  assert.deepEqual((await warden.call('GET', '/rounds')).body.rounds, []);
});

test('a round that is stopped after the mailbox was saved deletes nothing', async () => {
  const left = named('minutes');
  const warden = await Warden.start([left]);
  const all = warden.everything(left.user).map(({ ref }) => ref);
  const round = await warden.begin({ kind: 'empty' });
  await warden.until(round, 'asking');
  const { database } = warden.app;
  assert.equal((await warden.carryOut(round)).status, 200);
  await until(async () => (await database.query('select 1 from bag')).rowCount === 1);
  // No worker takes the next step while the row is held; the saving ends meanwhile.
  const client = await database.connect();
  await client.query('begin');
  await client.query('select 1 from round_mailbox for update');
  await until(async () => (await database.query(`select 1 from bag where state = 'done'`)).rowCount === 1);
  const stopping = warden.call('POST', `${round}/stop`);
  await until(async () => {
    const { rows } = await database.query(
      `select 1 from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock'`,
    );
    return rows.length > 0;
  });
  await client.query('commit');
  client.release();
  assert.equal((await stopping).status, 200);
  await until(async () => (await warden.call('GET', round)).body.round.states.left === 1);
  assert.equal((await database.query('select 1 from run')).rowCount, 0);
  assert.deepEqual(
    warden.everything(left.user).map(({ ref }) => ref),
    all,
  );
});
