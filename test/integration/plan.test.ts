import assert from 'node:assert/strict';
import { execFile } from 'node:child_process';
import { after, before, test } from 'node:test';
import { promisify } from 'node:util';
import { fromArrow } from '../../src/core/columns/arrow';
import { GROUPINGS, groupRows } from '../../src/core/senders/grouping';
import { lettersFrom } from '../../src/core/senders/people';
import { figuresOf, knowledgeOf, rankGroups } from '../../src/core/senders/ranking';
import { numbersOf, parseSequenceSet } from '../../src/core/sets/ranges';
import type { StandIn } from '../../stand-in/host';
import { FILE_DECISIONS } from '../file-decisions';
import { App, cleanUp, startStandIn, until } from '../harness';

const run = promisify(execFile);

let host: StandIn;
let app: App;
let account: string;

/** Names that a spreadsheet would run, or that break a table that is read carelessly. */
const HOSTILE = [
  '=HYPERLINK("http://x.example","y")',
  'a "quoted", name; and more',
  '+1 \u202eright to left',
  '@sum',
  "'apostrophe",
];

before(async () => {
  host = await startStandIn();
  const inbox = host.mailbox.folder('INBOX');
  assert.ok(inbox);
  for (const [index, name] of HOSTILE.entries()) {
    const word = `=?UTF-8?B?${Buffer.from(name).toString('base64')}?=`;
    const text = `From: ${word} <=hostile${index}@attic.example>\r\nSubject: hostile\r\n\r\n${'x'.repeat(200_000)}\r\n`;
    host.mailbox.append(inbox, Buffer.from(text), 1_500_000_000 + index, []);
  }
  app = await App.start();
  account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  // A few of a sender of mailings are flagged, so that a guard keeps them.
  const { messages } = await get(`/messages?limit=6&where=${where('domain = fenwater.example and age > 1y')}`);
  for (const { folder, uid } of messages) {
    const there = host.mailbox.folder(folder);
    assert.ok(there);
    const placed = there.messages.filter((one) => one.uid === uid);
    host.mailbox.setFlags(
      there,
      placed.map((one) => ({ placed: one, flags: new Set([...one.flags, 'flagged']) })),
    );
  }
  await app.scanned(account, true);
});
after(cleanUp);

const get = async (path: string) => (await app.call('GET', `${account}${path}`)).body;
const post = (path: string, body: unknown = {}) => app.call('POST', `${account}${path}`, body);
const where = (text: string) => encodeURIComponent(text);
const total = async (text: string, scope = 'mail') =>
  (await get(`/messages?limit=1&scope=${scope}&where=${where(text)}`)).total;

async function columns() {
  const response = await fetch(`${app.origin}/api${account}/columns`, { headers: { cookie: app.cookie } });
  return fromArrow(new Uint8Array(await response.arrayBuffer()));
}

test('rankings by columns are, figure by figure, those that plain SQL gives over the same mailbox', async () => {
  const { columns: all, note } = await columns();
  const inTrash = all.dictionaries.folder.map((path) => note.trash.includes(path));
  const scope = Uint8Array.from(all.folder, (code) => (inTrash[code] ? 0 : 1));
  const mask = Uint8Array.from(all.size, (size, row) => (scope[row] === 1 && size > 20_000 ? 1 : 0));
  const now = Date.now() / 1000;
  for (const by of GROUPINGS) {
    const letters = by === 'recipient' ? lettersFrom(all, scope) : undefined;
    const knowledge = knowledgeOf(all, groupRows(all, by), scope, now, letters);
    const figures = figuresOf(all, knowledge.grouping, mask);
    for (const order of ['bytes', 'evidence'] as const) {
      const answer = await get(`/senders?by=${by}&order=${order}&limit=1000&where=${where('size > 20000')}`);
      const ranked = rankGroups(figures, knowledge, order, true);
      assert.equal(answer.total, ranked.length, by);
      const ours = new Map(Array.from(ranked, (group) => [knowledge.grouping.keys[group], group]));
      let last = Infinity;
      for (const sender of answer.senders) {
        const group = ours.get(sender.key) as number;
        assert.deepEqual(
          [sender.messages, sender.bytes, sender.unseen, sender.answered, sender.flagged, sender.written],
          [
            figures.messages[group],
            figures.bytes[group],
            figures.unseen[group],
            figures.answered[group],
            figures.flagged[group],
            knowledge.written[group],
          ],
          `${by} ${sender.key}`,
        );
        assert.equal(Date.parse(sender.last) / 1000, figures.last[group]);
        assert.ok(Math.abs(sender.evidence - 100 * (knowledge.evidence[group] as number)) <= 1, sender.key);
        assert.ok(sender[order] <= last);
        last = sender[order];
      }
    }
  }
});

test('guards keep out of lots, may be let through one by one, but for holds, and are checked again as a run begins', async () => {
  const wrong = async (body: unknown) => {
    const { status, body: problem } = await post('/guards', body);
    return [status, problem.errors?.[0]?.field, problem.errors?.[0]?.at];
  };
  assert.deepEqual(await wrong({ where: 'size > 1 MB and guarded' }), [422, 'where', 16]);
  assert.deepEqual(await wrong({ where: 'text ~ hedge' }), [422, 'where', 0]);
  assert.deepEqual(await wrong({ where: '' }), [422, 'where', undefined]);
  assert.deepEqual(await wrong({ where: 'under = Committee', years: 3 }), [422, 'reason', undefined]);

  const named = await total('domain = fenwater.example');
  const flagged = await total('domain = fenwater.example and flagged');
  assert.ok(flagged.messages > 1);
  const lot = (await post('/lots', { where: 'domain = fenwater.example', expect: named })).body;
  assert.deepEqual(lot.guarded, flagged);
  assert.deepEqual([lot.messages, lot.bytes], [named.messages - flagged.messages, named.bytes - flagged.bytes]);
  assert.equal((await total('domain = fenwater.example and guarded')).messages, flagged.messages);
  const kept = (await get(`/lots/${lot.id}/messages?part=guarded`)).messages;
  // What is excepted by hand is not counted as kept by a guard besides.
  const expect = { messages: named.messages - 1, bytes: named.bytes - kept[0].size };
  const but = await post('/lots', { where: 'domain = fenwater.example', except: [kept[0].id], expect });
  assert.deepEqual([but.status, but.body.messages, but.body.guarded.messages], [201, lot.messages, kept.length - 1]);
  await app.call('DELETE', `${account}/lots/${but.body.id}`);
  assert.ok(kept.every(({ guards, allowed }: { guards: number[]; allowed: boolean }) => guards[0] === 1 && !allowed));
  const through = (await app.call('PATCH', `${account}/lots/${lot.id}`, { allow: [kept[0].id] })).body;
  assert.equal(through.messages, lot.messages + 1);

  // A hold takes back what was let through; lifting it needs a reason, and gives it back.
  const hold = (await post('/guards', { where: 'flagged', years: 100, reason: 'the society’s rules' })).body;
  assert.equal((await get('/lots')).lots[0].messages, lot.messages);
  assert.equal(
    (await app.call('PATCH', `${account}/lots/${lot.id}`, { allow: [kept[0].id] })).body.messages,
    lot.messages,
  );
  assert.equal((await app.call('DELETE', `${account}/guards/${hold.id}`)).status, 409);
  assert.equal((await app.call('PATCH', `${account}/guards/${hold.id}`, { active: false })).status, 409);
  assert.equal((await post(`/guards/${hold.id}/lift`, { reason: ' ' })).status, 422);
  const lifted = (await post(`/guards/${hold.id}/lift`, { reason: 'the rules changed' })).body;
  assert.deepEqual([lifted.active, lifted.liftReason], [false, 'the rules changed']);
  assert.equal((await get('/lots')).lots[0].messages, lot.messages + 1);

  // What becomes guarded between the asking and the beginning is left, and said so.
  await app.killWorker();
  const { id, asked } = (await post('/runs', { action: 'trash', lots: [lot.id] })).body;
  assert.equal(asked.messages, lot.messages + 1);
  const late = (await post('/guards', { where: 'domain = fenwater.example and age < 5y' })).body;
  const held = (await post('/guards', { where: 'domain = fenwater.example and age > 7y', years: 90, reason: 'law' }))
    .body;
  app.startWorker();
  const done = await app.finished(`${account}/runs/${id}`);
  const left = Object.fromEntries(
    done.left.map((one: { reason: string; messages: number }) => [one.reason, one.messages]),
  );
  const spared = await total('domain = fenwater.example and age < 5y and not flagged');
  assert.equal(left.guarded, spared.messages);
  assert.ok(left.held > 0 && left.guarded > 0);
  assert.equal(done.done.messages + left.guarded + left.held, asked.messages);
  assert.equal((await total('domain = fenwater.example and age > 7y', 'all')).messages, held.messages);
  // A hold keeps in the trash too: nothing under it goes, whatever is purged.
  const inTrash = (await post('/guards', { where: 'domain = fenwater.example', years: 90, reason: 'law' })).body;
  const purged = await app.ran(account, { action: 'purge', where: 'domain = fenwater.example' });
  assert.deepEqual([purged.done.messages, purged.left[0].reason], [0, 'held']);
  for (const { id: one } of [inTrash, held]) await post(`/guards/${one}/lift`, { reason: 'the test is over' });
  assert.equal((await app.call('DELETE', `${account}/guards/${late.id}`)).status, 204);
  assert.equal((await app.call('DELETE', `${account}/guards/1`)).status, 409);
});

test('a decision makes a lot or a guard, gives way to the next, and is taken back', async () => {
  const decide = (key: string, decision: string, by = 'address', under = '') =>
    post('/decisions', { where: under, decisions: [{ by, key, decision, label: key }] });
  const key = 'station@wx.saltmarshlane.example';
  const all = await total(`from = ${key}`);
  const held = async () => {
    const { lots, guarded } = await get('/lots');
    return lots.map(({ label, messages }: { label: string; messages: number }) => [label, messages + guarded.messages]);
  };
  await decide(key, 'trash');
  assert.deepEqual(await held(), [[key, all.messages]]);
  await decide(key, 'trash all but the newest 10');
  assert.deepEqual(await held(), [[`${key}: trash all but the newest 10`, all.messages - 10]]);
  const [lot] = (await get('/lots')).lots;
  const excepted = (await get(`/lots/${lot.id}/messages?part=excepted`)).messages;
  const newest = (await get(`/messages?order=date&direction=down&limit=10&where=${where(`from = ${key}`)}`)).messages;
  const ids = (list: { id: number }[]) => list.map(({ id }) => id).sort((a, b) => a - b);
  assert.deepEqual(ids(excepted), ids(newest));
  await decide(key, 'Trash older than 2y', 'address', 'size > 100');
  const older = await total(`from = ${key} and age > 2y and size > 100`);
  assert.equal((await held())[0][1], older.messages);
  await decide(key, 'keep');
  assert.deepEqual(await held(), []);
  assert.equal((await total(`from = ${key} and not guarded`)).messages, 0);
  assert.deepEqual(
    (await get('/decisions')).decisions.map(({ decision }: { decision: string }) => decision),
    ['keep'],
  );
  await decide(key, 'trash');
  assert.deepEqual(await held(), [[key, all.messages]]);
  await decide(key, '');
  assert.ok((await total(`from = ${key} and not guarded`)).messages > 0);
  assert.deepEqual((await get('/decisions')).decisions, []);
  const wrong = await decide(key, 'burn');
  assert.deepEqual([wrong.status, wrong.body.errors[0].field], [422, 'decisions.0.decision']);
});

test('the decision sheet passes an independent reader and writer unharmed, and nothing is done before it was seen', async () => {
  const sheet = (await app.call('GET', `${account}/decisions/sheet?by=address&order=bytes`)).body;
  // Python's csv reads and writes it (RFC 4180 in its dialect "excel").
  const script = `
import csv, io, json, sys
rows = list(csv.DictReader(io.StringIO(sys.stdin.read().lstrip('\\ufeff'), newline='')))
assert not any(cell[:1] in ('=', '+', '-', '@') for row in rows for cell in row.values())
for row in rows:
    if 'hostile' in row['key']: row['decision'] = 'trash'
rows[0]['decision'] = 'burn'
rows.append({**rows[0], 'key': 'nobody@nowhere.example', 'decision': 'keep'})
out = io.StringIO(newline='')
writer = csv.DictWriter(out, rows[0].keys()); writer.writeheader(); writer.writerows(rows)
print(json.dumps({'rows': rows, 'sheet': out.getvalue()}))`;
  const child = run('python3', ['-c', script], { maxBuffer: 2 ** 26 });
  child.child.stdin?.end(sheet);
  const { rows, sheet: edited } = JSON.parse((await child).stdout);
  const senders = (await get('/senders?by=address&limit=1000')).senders;
  assert.equal(rows.length - 1, (await get('/senders?by=address&limit=1')).total);
  for (const [index, name] of HOSTILE.entries()) {
    const row = rows.find(({ key }: { key: string }) => key === `'=hostile${index}@attic.example`);
    // What would turn the direction of the words around is shown as such.
    const kept = name.replaceAll('\u202e', '\ufffd');
    assert.equal(row.name.replace(/^'/, ''), kept);
    assert.ok(senders.some(({ name: shown }: { name: string }) => shown === kept));
  }
  const before = await get('/lots');
  const preview = (await post('/decisions/sheet', { sheet: edited })).body;
  assert.deepEqual(
    preview.issues
      .filter(({ refused }: { refused: boolean }) => refused)
      .map(({ line, note }: { line: number; note: string }) => [line, note]),
    [
      [2, 'unknown-decision'],
      [rows.length + 1, 'no-such-sender'],
    ],
  );
  assert.equal(preview.decisions.length, HOSTILE.length);
  assert.deepEqual(await get('/lots'), before);
  const applied = (await post('/decisions/sheet', { sheet: edited, apply: true })).body;
  const plan = await get('/lots');
  assert.deepEqual([plan.lots.length, plan.total], [before.lots.length + HOSTILE.length, applied.total]);
  assert.deepEqual(plan.total, preview.total);
  for (const { id } of plan.lots) await app.call('DELETE', `${account}/lots/${id}`);
});

test('suggestions reach the target in a few decisions without one guarded message; lots are split, placed and excepted from', async () => {
  await app.call('PATCH', `${account}/settings`, { target: { share: 0.8 } });
  // Files first: no letter is asked for where they are enough.
  const [files] = (await get('/suggestions')).suggestions;
  assert.equal(files.fate, 'strip');
  const strip = (await post('/lots', { fate: 'strip', where: files.where, suggestion: files.key })).body;
  assert.deepEqual([strip.adds, strip.files], [files.adds, files.files]);
  assert.equal(strip.unchecked, strip.files);
  const level = await get('/level');
  assert.ok(level.after <= level.targetBytes);
  await app.call('DELETE', `${account}/lots/${strip.id}`);
  for (const key of FILE_DECISIONS) await post('/suggestions/dismissed', { key });
  const { suggestions, reach } = await get('/suggestions');
  assert.ok(suggestions.every(({ fate }: { fate: string }) => fate === 'trash'));
  assert.ok(reach > 0 && reach < 15, `${reach}`);
  const refused = suggestions[0];
  assert.equal((await post('/suggestions/dismissed', { key: refused.key })).status, 204);
  let decisions = 0;
  for (;;) {
    const { after: left, targetBytes } = await get('/level');
    if (left <= targetBytes) break;
    const [next] = (await get('/suggestions')).suggestions;
    assert.notEqual(next.key, refused.key);
    const lot = (await post('/lots', { where: next.where, label: next.key, suggestion: next.key })).body;
    assert.deepEqual(lot.adds, next.adds);
    assert.ok(++decisions < 15);
  }
  const guarded = new Set(numbersOf(parseSequenceSet((await get('/matches?where=guarded')).ids) ?? []));
  const plan = parseSequenceSet((await get('/plan')).trash) ?? [];
  for (const id of numbersOf(plan)) assert.ok(!guarded.has(id));

  const [first] = (await get('/lots')).lots;
  const part = (await post(`/lots/${first.id}/split`, { where: 'age > 4y' })).body;
  const whole = (await get('/lots')).lots;
  const rest = whole.find(({ id }: { id: number }) => id === first.id);
  assert.equal(part.messages + rest.messages, first.messages);
  assert.deepEqual([whole[0].id, whole[1].id], [first.id, part.id]);
  assert.equal((await post(`/lots/${part.id}/split`, { where: 'age > 4y' })).status, 422);
  await app.call('PATCH', `${account}/lots/${part.id}`, { place: 0 });
  assert.equal((await get('/lots')).lots[0].id, part.id);
  const [largest] = (await get(`/lots/${part.id}/messages?limit=1`)).messages;
  assert.equal((await post('/plan/except', { ids: [largest.id] })).status, 204);
  assert.equal((await get(`/lots/${part.id}`)).messages, part.messages - 1);

  // What goes from the server meanwhile drops out, visibly; the plan itself stays through a rescan and a new session.
  const { folder, uid } = (await get(`/lots/${part.id}/messages?limit=1`)).messages[0];
  const there = host.mailbox.folder(folder);
  assert.ok(there);
  host.mailbox.expunge(
    there,
    there.messages.filter((placed) => placed.uid === uid),
  );
  await app.call('DELETE', '/session');
  app.cookie = '';
  account = await app.signIn({ port: host.plainPort });
  await app.scanned(account, true);
  await until(async () => (await get(`/lots/${part.id}`)).vanished === 1);
  assert.equal((await get(`/lots/${part.id}`)).messages, part.messages - 2);
});
