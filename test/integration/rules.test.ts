import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { rulesScript, withMarkedPart } from '../../src/core/sieve/script';
import { ManageSieve } from '../../src/mail/managesieve/client';
import { DOVECOT_PASSWORD, DOVECOT_USER, type Dovecot, deliverTo, startDovecot } from '../dovecot';
import { App, cleanUp, demoScenario, ROOT, temporaryFolder, USER } from '../harness';
import { Relay } from '../relay';

after(cleanUp);

const OWN = [
  'require ["fileinto"];',
  '# My own.',
  'if header :contains "subject" "committee" { fileinto "INBOX.Committee"; }',
  'elsif address :is "from" "nobody@attic.example" { discard; }',
  '',
].join('\r\n');

interface Opened {
  app: App;
  account: string;
  dovecot: Dovecot;
  caFile: string;
  outbound: { allowPrivate: boolean; caFile: string };
}

async function opened(rules: 'all' | '-include'): Promise<Opened> {
  const dovecot = await startDovecot(400, [], undefined, rules);
  const folder = temporaryFolder();
  const caFile = join(folder, 'authority.pem');
  writeFileSync(caFile, dovecot.authority);
  const servers = join(folder, 'servers.json');
  const sieve = { host: 'localhost', port: dovecot.sievePort, security: 'starttls' };
  const imap = { host: 'localhost', port: dovecot.tlsPort, security: 'tls', user: 'local', sieve };
  writeFileSync(servers, JSON.stringify({ 'saltmarshlane.example': imap }));
  const app = await App.start({ authority: dovecot.authority, env: { TAMSEL_SERVERS_FILE: servers } });
  const account = await app.signIn({ port: dovecot.plainPort, user: USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  return { app, account, dovecot, caFile, outbound: { allowPrivate: true, caFile } };
}

const connect = ({ dovecot, outbound }: Opened) =>
  ManageSieve.connect(
    { host: 'localhost', port: dovecot.sievePort, security: 'starttls' },
    DOVECOT_USER,
    { password: DOVECOT_PASSWORD },
    outbound,
  );

/** The scripts of the server as a program reads them that is none of ours. */
function scriptsOn({ dovecot, caFile }: Opened): { name: string; active: boolean; script: string }[] {
  const args = [
    join(ROOT, 'test/integration/read_script.py'),
    `${dovecot.sievePort}`,
    DOVECOT_USER,
    DOVECOT_PASSWORD,
    caFile,
  ];
  return JSON.parse(execFileSync('/usr/bin/python3', args, { encoding: 'utf8' }));
}

test('scripts go over the wire as they are, are checked by the server, and what is no answer is an error', async () => {
  const setting = await opened('all');
  const server = await connect(setting);
  assert.ok(server.extensions.includes('include') && server.extensions.includes('fileinto'));
  assert.deepEqual(await server.scripts(), []);
  const awkward = 'keep; # "ü" {3+}\r\n# \\ and \r\n';
  await server.put('a "quoted" näme', awkward);
  await server.put('own', OWN);
  await server.activate('own');
  assert.equal(await server.script('a "quoted" näme'), awkward);
  assert.deepEqual(
    (await server.scripts()).sort((a, b) => a.name.localeCompare(b.name)),
    [
      { name: 'a "quoted" näme', active: false },
      { name: 'own', active: true },
    ],
  );
  await assert.rejects(server.check('if nonsense { keep; }'), /nonsense/);
  await assert.rejects(server.script('not there'));
  await server.remove('a "quoted" näme');
  await server.close();
  assert.deepEqual(scriptsOn(setting), [{ name: 'own', active: true, script: OWN }]);
  await assert.rejects(
    ManageSieve.connect(
      { host: 'localhost', port: setting.dovecot.sievePort, security: 'starttls' },
      DOVECOT_USER,
      { password: 'wrong' },
      setting.outbound,
    ),
    /refused/,
  );
  await assert.rejects(
    ManageSieve.connect(
      { host: 'localhost', port: setting.dovecot.plainPort, security: 'none' },
      DOVECOT_USER,
      { password: DOVECOT_PASSWORD },
      setting.outbound,
    ),
    /no answer of ManageSieve/,
    'an IMAP server is none',
  );
});

for (const mode of ['all', '-include'] as const)
  test(`mail that Dovecot delivers lands where the rules said, and one’s own script stays as it is (${mode})`, async () => {
    const setting = await opened(mode);
    const { app, account, dovecot } = setting;
    const server = await connect(setting);
    await server.put('own', OWN);
    await server.activate('own');
    await server.close();
    const rules = async () => (await app.call('GET', `${account}/rules`)).body;
    const before = await rules();
    assert.deepEqual(
      [before.rules, before.running, before.own, before.includes, before.loses],
      [
        [],
        false,
        'own',
        mode === 'all',
        [{ what: 'discard', when: ['not (subject contains “committee”)', 'from is “nobody@attic.example”'] }],
      ],
    );
    const add = (label: string, where: string, folder: string, expect: string) =>
      app.call('POST', `${account}/rules`, { label, where, folder, expect });
    assert.equal((await add('old', 'age > 1y', 'Trash', before.mark)).status, 422);
    assert.equal((await add('x', 'size > 1 MB', 'No such', before.mark)).status, 422);
    const first = await add('Seeds', 'from ~ "fenwater.example"', 'Trash', before.mark);
    assert.equal(first.status, 201, JSON.stringify(first.body));
    const second = await add('Large', 'size > 40 kB and not subject ~ "minutes"', 'Sent', first.body.mark);
    assert.deepEqual(
      [second.status, second.body.rules.length, second.body.running, second.body.own],
      [201, 2, true, 'own'],
    );
    // With what was seen before the first rule nothing is written over.
    assert.equal((await add('y', 'size > 1 MB', 'Trash', before.mark)).status, 409);
    const now = scriptsOn(setting);
    if (mode === 'all') assert.equal(now.find(({ name }) => name === 'own')?.script, OWN, 'it stays as it is');
    else assert.equal(withMarkedPart(now.find(({ name }) => name === 'own')?.script ?? '', []), OWN);
    const small = demoScenario().messages.filter(({ item }) => item.size < 300_000);
    const sample = small.filter((_, at) => at % Math.ceil(small.length / 60) === 0);
    for (const { item } of sample) await deliverTo(dovecot, item.write());
    await app.scanned(account, true);
    const total = async (where: string) =>
      (await app.call('GET', `${account}/messages?limit=1&scope=all&where=${encodeURIComponent(where)}`)).body.total
        .messages;
    const seeds = 'from ~ "fenwater.example"';
    const large = `size > 40 kB and not subject ~ "minutes" and not (${seeds})`;
    assert.ok((await total(seeds)) > 0 && (await total(large)) > 0, 'the sample has both');
    assert.equal(await total(`(${seeds}) and folder != Trash`), 0);
    assert.equal(await total(`folder = Trash and not (${seeds})`), 0);
    assert.equal(await total(`(${large}) and folder != Sent`), 0);
    assert.equal(await total(`folder = Sent and not (${large})`), 0);
    assert.ok((await total('folder = Committee')) + (await total('folder = INBOX')) > 0);
    // Another program changes what is there meanwhile.
    const other = await connect(setting);
    const theirs =
      mode === 'all'
        ? OWN.replace('committee', 'council')
        : `${now.find(({ name }) => name === 'own')?.script}# more\r\n`;
    await other.put('own', theirs);
    await other.close();
    const refused = await app.call('DELETE', `${account}/rules/1?expect=${second.body.mark}`);
    assert.deepEqual([refused.status, refused.body.type], [409, '/problems/script-changed']);
    // Each in turn; with the last one their script is active by itself.
    for (const id of [1, 2]) {
      const gone = await app.call('DELETE', `${account}/rules/${id}?expect=${(await rules()).mark}`);
      assert.equal(gone.status, 200, JSON.stringify(gone.body));
    }
    const left = scriptsOn(setting);
    assert.deepEqual(
      left.map(({ name, active }) => [name, active]),
      [['own', true]],
    );
    assert.equal(left[0]?.script, mode === 'all' ? theirs : `${OWN}# more\r\n`);
    // The old one is kept, and brought back as it was.
    await add('Seeds', seeds, 'Trash', (await rules()).mark);
    const changedOnce = await connect(setting);
    await changedOnce.put('other', 'keep;\r\n');
    await changedOnce.activate('other');
    await changedOnce.close();
    const aside = await rules();
    assert.deepEqual([aside.running, aside.rules.length, aside.own], [false, 1, 'other']);
    const restored = await app.call('POST', `${account}/rules/restore`, { expect: aside.mark });
    assert.deepEqual([restored.status, restored.body.rules, restored.body.own], [200, [], 'own']);
    assert.deepEqual(
      scriptsOn(setting)
        .map(({ name }) => name)
        .sort(),
      ['other', 'own'],
      'nothing of ours is left',
    );
    assert.equal(scriptsOn(setting).find(({ active }) => active)?.script, mode === 'all' ? theirs : `${OWN}# more\r\n`);
  });

test('what is rendered compiles with sievec, with names and labels of any kind', () => {
  const folder = temporaryFolder();
  const rules = [
    {
      label: 'a "label"\r\nkeep; # and more',
      test: 'size :over 10',
      folders: ['INBOX.Mä"rkte \\ Feste', 'INBOX.M&AOQ-"rkte \\ Feste'],
    },
    { label: '', test: 'allof (true, not false)', folders: ['Trash'] },
  ];
  const scripts = {
    rules: rulesScript(rules),
    none: rulesScript([]),
    marked: withMarkedPart(OWN, rules),
    'marked, nothing before': withMarkedPart('keep;\n', rules),
    'marked, empty': withMarkedPart('', rules),
  };
  for (const [name, script] of Object.entries(scripts)) {
    const file = join(folder, `${name}.sieve`);
    writeFileSync(file, script);
    execFileSync('sievec', [file, join(folder, 'out.svbin')], { stdio: 'pipe' });
  }
  assert.equal(withMarkedPart(withMarkedPart(OWN, rules), []), OWN);
  assert.equal(withMarkedPart(withMarkedPart(OWN, rules), rules), withMarkedPart(OWN, rules));
});

test('one signs in for rules by SCRAM, with which the password stays here, else by PLAIN; a wrong one is refused', async () => {
  const dovecot = await startDovecot(10, [], undefined, 'all', 'auth_mechanisms = plain scram-sha-256\n');
  for (const [hide, said] of [
    ['', 'SCRAM-SHA-256'],
    [' SCRAM-SHA-256', 'PLAIN'],
  ] as const) {
    const relay = await Relay.before(dovecot.sievePort);
    relay.unsaid = hide;
    const connecting = (password: string) =>
      ManageSieve.connect(
        { host: '127.0.0.1', port: relay.port, security: 'none' },
        DOVECOT_USER,
        { password },
        { allowPrivate: true, caFile: undefined },
      );
    const server = await connecting(DOVECOT_PASSWORD);
    await server.put('own', OWN);
    assert.equal(await server.script('own'), OWN);
    await server.close();
    assert.ok(relay.said.startsWith(`AUTHENTICATE "${said}"`), relay.said);
    const sent = Buffer.from(`\0${DOVECOT_USER}\0${DOVECOT_PASSWORD}`).toString('base64');
    assert.equal(relay.said.includes(sent), said === 'PLAIN');
    await assert.rejects(connecting('wrong'), { kind: 'password-refused' });
  }
});
