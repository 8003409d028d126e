import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Route } from '../../src/api/route';
import { ROUTES } from '../../src/api/routes';
import { fileOctets } from '../../stand-in/files/body';
import { filesOf, SHARED } from '../../stand-in/scenario/files';
import { hostedMailboxes } from '../../stand-in/scenario/host';
import { withWarnings } from '../../stand-in/scenario/warnings';
import { LETTER_LINES } from '../../stand-in/scenario/words';
import { listed, startFileSpace } from '../file-space';
import { App, cleanUp, DAY, PASSWORD, ROOT, startStandIn, tinyScenario, USER, until } from '../harness';
import { INTRODUCTION, PROBLEMS } from './words';

/**
 * Writes docs/api.md: every call with a request and an answer that were really made, on a small made-up mailbox.
 *
 *     npm run docs:api
 */
const out: string[] = [INTRODUCTION];
const told = new Set<string>();
/** Items of a list, and characters of a text, that are shown of an answer. */
const FEW = 2;
const LONG = 160;
const END = Date.parse(`${DAY}T18:00:00Z`) / 1000;

const operator = { user: 'warden', password: 'keys and lists' };
const hosted = hostedMailboxes(DAY, 'small').filter(({ user }) => /^(bees|plots)@/.test(user));
const host = await startStandIn({ scenario: withWarnings(tinyScenario()), hosted, operators: [operator] });
const space = await startFileSpace(host, filesOf({ ...tinyScenario(), notMail: 4_000_000 }, END), SHARED);
const app = await App.start();
const access = { host: '127.0.0.1', port: host.plainPort, security: 'none', user: USER, password: PASSWORD };

function section(title: string, prose = ''): void {
  out.push(`## ${title}`, ...(prose === '' ? [] : [prose]));
}

interface Asked {
  path?: Record<string, string | number>;
  query?: Record<string, string>;
  body?: unknown;
  headers?: Record<string, string>;
  prose?: string;
}

/** Makes a call and writes it down. */
async function call(operation: string, { path = {}, query, body, headers = {}, prose }: Asked = {}): Promise<any> {
  const route = ROUTES[operation] as Route;
  const filled = route.path.replace(/\{(\w+)\}/g, (_, name: string) => encodeURIComponent(`${path[name] ?? 1}`));
  const asked = query ? `${filled}?${new URLSearchParams(query)}` : filled;
  const answer = await app.call(route.method, asked, body, headers);
  if (!told.has(operation)) out.push(`### ${operation}`, `\`${route.method} ${route.path}\``, route.summary);
  told.add(operation);
  if (prose) out.push(prose);
  const lines = [`${route.method} /api${decodeURIComponent(asked).replaceAll('+', ' ')}`];
  for (const [name, value] of Object.entries(headers)) lines.push(`${name}: ${value}`);
  if (body !== undefined) lines.push('', JSON.stringify(withoutSecrets(body), null, 2));
  lines.push('', `${answer.status}`);
  if (answer.status !== 204 && answer.status !== 304) lines.push(shown(answer.body));
  out.push(['```', ...lines, '```'].join('\n'));
  return answer.body;
}

function withoutSecrets(body: unknown): unknown {
  return JSON.parse(JSON.stringify(body, (name, value) => (name === 'password' ? '…' : value)));
}

/** An answer as it is, its lists and texts cut. */
function shown(body: unknown): string {
  if (typeof body === 'string') return body.length > 300 ? `${body.slice(0, 300)}…` : body;
  const cut = (value: unknown): unknown => {
    if (Array.isArray(value)) return [...value.slice(0, FEW).map(cut), ...(value.length > FEW ? ['…'] : [])];
    if (typeof value === 'string') return value.length > LONG ? `${value.slice(0, LONG)}…` : value;
    if (typeof value !== 'object' || value === null) return value;
    return Object.fromEntries(Object.entries(value).map(([name, inside]) => [name, cut(inside)]));
  };
  return JSON.stringify(cut(body), null, 2);
}

/** Calls whose answers are no text, or that need another host. */
function words(operation: string, prose: string): void {
  const route = ROUTES[operation] as Route;
  out.push(`### ${operation}`, `\`${route.method} ${route.path}\``, route.summary, prose);
  told.add(operation);
}

const ended = (run: { id: number }) => app.finished(`/accounts/1/runs/${run.id}`);

section('Sessions', 'A session is a cookie. It may hold several accounts.');
// Another browser, to be signed out.
await app.call('POST', '/session', access);
app.keepCookies((await app.call('POST', '/session', access)).headers);
await call('signIn', {
  body: access,
  prose:
    '`signInAs` is for administrators: `user` is the mailbox, `signInAs` is who signs in, and `reason` is why. The ledger tells the owner. The answer sets the session cookie.',
});
app.keepCookies((await app.call('POST', '/session', access)).headers);
await app.scanned('/accounts/1');
await call('getSession');
const { sessions } = await call('listSessions');
await call('endSession', { path: { session: sessions.find(({ isOwn }: { isOwn: boolean }) => !isOwn).id } });
words('leaveAccount', 'The answer is 204.');
words('signOut', 'The answer is 204.');
section(
  'Confirming your identity',
  'Three things need a sign-in or a confirmation within the last ten minutes: erasing an account, creating a token that may act, and purging more than `TAMSEL_MAX_UNCONFIRMED_PURGE` messages. Otherwise the answer is 403 `prove-again`, and `errors` says what is expected: `password` or `authorization`. Requests with a token need no confirmation.',
);
await call('proveIdentity', { body: { password: PASSWORD } });
section(
  'Operators of a host',
  'An operator looks after the mailboxes of others at a mail host ([many mailboxes](mailboxes.md)). Quota and figures of folders are measured, and no mail is read. These calls need a session.',
);
const asOperator = { ...access, ...operator, mailbox: hosted[0]?.user };
await call('signInAsOperator', { body: asOperator });
app.keepCookies((await app.call('POST', '/operators', asOperator)).headers);
app.keepCookies((await app.call('POST', '/session', access)).headers);
await call('listOperators');
await call('changeOperator', { body: { daily: false } });
const sheet = `address,limit,note\n${hosted[0]?.user},2 GiB,the plots\n${hosted[1]?.user},5 sheds,`;
await call('readMailboxList', { body: { sheet } });
await call('addHostMailbox', { body: { user: hosted[0]?.user } });
await until(async () => (await app.call('GET', '/operators/1/mailboxes')).body.measuring === 0);
await call('listHostMailboxes', {
  prose:
    '`states` has everything that holds of a mailbox, the most urgent first. `share` is that of the fuller of its two limits. Figures by the `server` go before what is `stated` or `counted`.',
});
await call('changeHostMailbox', { path: { mailbox: 1 }, body: { target: 0.7, note: 'the plots' } });
await call('measureHostMailboxes', { body: {} });
await call('listMeasurements', { path: { mailbox: 1 } });
words('downloadMailboxes', 'The answer is `text/csv`.');
words('openHostMailbox', 'Body: `{reason}`, 3 to 500 characters. The answer is that of `signIn`, and sets the cookie.');
await call('listHostActs');
const purge = {
  kind: 'purge',
  terms: { days: 14, trash: true, junk: true },
  mailboxes: [1],
  reason: 'The host is almost full.',
};
const { round } = await call('makeRound', {
  body: purge,
  prose:
    'Other kinds: `{kind: "empty", mailboxes, reason}` saves whole mailboxes in the archive, then empties them. `{kind: "standing", terms: {label, where, fate, rhythm, most, purgeAfterDays}, mailboxes, reason}` makes one standing lot in each. The order is: make, wait until `state` is `asking`, look, carry out.',
});
await until(async () => (await app.call('GET', '/operators/1/rounds/1')).body.round.state === 'asking');
const { round: asked } = await call('getRound', {
  path: { round: round.id },
  prose: '`messages` and `bytes` of a mailbox are what would go by its trial; `done` is what went.',
});
await call('carryOutRound', { path: { round: round.id }, body: { expect: asked.asked } });
await until(async () => (await app.call('GET', '/operators/1/rounds/1')).body.round.state === 'ended');
await call('listRounds');
await call('stopRound', { path: { round: round.id } });
words('dropHostMailbox', 'The answer is 204.');
words('leaveOperator', 'The answer is 204.');
words('deleteOperator', 'The answer is 204.');
section('Finding a server');
await call('findServers', {
  body: { address: 'secretary@nowhere.example' },
  prose:
    '`how` is `list` (the operator’s list), `dns` (SRV records), `config` (settings that the domain publishes) or `guess`. `within` is false if the server’s name is outside the domain of the address.',
});
section(
  'Signing in with OAuth 2.0',
  'These calls work for mail servers at which the operator has registered this instance ([signing in](signing-in.md)). A cookie ties each authorization to the browser that began it.',
);
await call('listAuthorizations');
words(
  'beginAuthorization',
  'Body: `{host, port, security, user}`. Answer: 201 `{url}`. Send the browser there; it comes back to `/authorized`.',
);
words('finishAuthorization', 'Body: `{query}`, the query with which the browser came back. Answer: as for `signIn`.');
words('beginDeviceAuthorization', 'Body: `{host, port, security, user}`. Answer: 201 `{code, url, interval, endsAt}`.');
words(
  'finishDeviceAuthorization',
  'Body: `{}`. Answer: 202 `{state: "waiting", interval}` until the person has entered the code, then as for `signIn`. Poll no more often than every `interval` seconds.',
);

section(
  'Scans',
  'A scan makes the index equal to the server. Its `stage` is `level`, `outline`, `details` or `finalizing`. Each stage is complete before the next begins. `messages` counts within the stage. A scan that is not being done says why in `waits`: `later` (it is tried again), `turn` (other work on this mailbox), `host` (other mailboxes of this mail server), `large` (other large mailboxes) or `worker` (no worker has taken it yet).',
);
await call('startScan', { body: {} });
await app.scanned('/accounts/1');
await call('getScan', { path: { scan: 'last' } });
await call('listFirstSenders', { query: { by: 'domain', limit: '3' } });

section(
  'The level',
  '`used` is the server’s figure (`usedBy: "server"`) or ours. `counted` figures are exact to the octet; the server counts in units of 1024 octets (RFC 9208). `after` is what remains once the plan is run and the trash is purged. `roleBy` of a folder is `server`, `user`, or `name` for a guess that nobody has confirmed. Runs to a trash that is only a guess are refused.',
);
await call('getLevel');
await call('getForecast');
await call('listWarnings');
await call('judgeWarnings', { body: {} });

section(
  'File spaces',
  'Files on a WebDAV server (RFC 4918) that share the quota with mail, or lie beside it. `counts` says whether they count against the limit of the mailbox: by the figures of both servers (RFC 4331), or as you say. `space` of the level holds their sums: `unexplained` is what the host counts and neither mail nor files are, to the octet where the file server says so. What others share never counts. [How files are measured](spaces.md).',
);
await call('findSpaces');
await call('addSpace', { body: { address: space.url.href } });
await until(async () => (await app.call('GET', '/accounts/1/spaces')).body.spaces[0].listing.state === 'done');
await call('listSpaces');
await call('getSpaceContents', { path: { space: 1 } });
await call('listSpaceFiles', { path: { space: 1 }, query: { kind: 'picture', limit: '2' } });
await call('changeSpace', { path: { space: 1 }, body: { counts: true } });
await call('listSpaceAgain', { path: { space: 1 } });
await listed(app, '/accounts/1');
await call('forgetSpace', { path: { space: 1 } });

section(
  'Messages',
  'Pages: `limit` says how many (1 to 1,000), `next` of an answer goes into `after` of the next request. `complete` is false while the first scan is still reading folders: the answer leaves out what has not been read yet.',
);
const { messages } = await call('listMessages', {
  query: { where: 'size > 1 MB and not flagged', limit: '2' },
  prose:
    '`order` is `size`, `date`, `from`, `subject` or `placed` (when a message came into its folder); `direction` is `up` or `down`. `before` leaves out what came into its folder at that time or later. `version` names the state of the index, for `asOf` of a run.',
});
const [first, second] = messages;
await call('getMessage', { path: { message: first.id } });
await call('getMessageText', { path: { message: first.id } });
await call('listMatches', { query: { where: 'category = mailings' } });
await call('listSubjectOrder', { query: { scope: 'trash' } });
words(
  'getColumns',
  'The answer is `application/vnd.apache.arrow.stream`, compressed. Texts are dictionary-encoded. Times are seconds of UTC. `flags` are bits: 1 seen, 2 answered, 4 flagged, 8 deleted, 16 draft. `kinds` are bits in the order of the criteria’s `kind`. `category` is a number in the order `letters own lists mailings automatic records invitations`. `signs` are the bits of core/categories, and bit 30 for a document that you have no other copy of. The ETag names the state. An answer to `since` has the rows that changed; the metadata has the ids that went (`gone`), the paths of the trash (`trash`) and whether it is a difference at all (`difference`).',
);

section(
  'Files',
  'A file is a part of a message that has a name, is marked as attached, or is no text to be read. Files of enclosed messages are listed too. In criteria of files, `size`, `kind` and `file` mean the file; all other fields mean its message.',
);
await call('listFiles', {
  query: { where: 'kind = picture or size > 1 MB', limit: '2' },
  prose:
    '`size` counts in the mailbox; `decoded` is about what the file has on a disk. `copy` says whether a copy is outside the mailbox, and whether it was checked.',
});
words(
  'getFileColumns',
  'The answer is `application/vnd.apache.arrow.stream`, compressed: `id`, `placement` (the id of a message that has it), `size`, `kind` (a number in the order of the criteria’s `kind`), `copy` (0 none, 1 saved, 2 checked) and `name`.',
);
words(
  'getFilePreview',
  'For example `GET /api/accounts/1/files/512/preview?size=large` answers 200 with the octets of a WebP picture, at most 320 × 240 points if `small` and 1280 × 960 if `large`. It holds no metadata of the file.',
);
const { files: pictures } = (await app.call('GET', '/accounts/1/files?where=kind%20%3D%20picture&limit=1')).body;
await call('getSmallerPicture', { path: { file: pictures[0].id }, query: { longest: '1600' } });
const { files: documents } = (await app.call('GET', '/accounts/1/files?where=kind%20%3D%20document&limit=1')).body;
await call('getFileWords', { path: { file: documents[0].id } });

section(
  'Saving files',
  'Files are saved into a bag (RFC 8493): a folder with `manifest-sha256.txt`, which `sha256sum -c` checks, and `data/index.jsonl`, which says from which message each file is. `place: "here"` keeps it in the archive of this machine. `place: "download"` makes it ready to be downloaded; its files count as checked once you hand in the SHA-256 of your copy.\n\nStates: `queued` → `running` → `checking` → `done`, `cancelled` or `failed`; `paused` in between, also when the disk is full. Files that are not in the bag have a reason: `vanished differs unreadable cancelled`.',
);
const bag = await call('saveFiles', {
  body: { place: 'here', where: 'kind = picture and size < 300 kB', label: 'small pictures' },
});
const saved = async (id: number) => {
  while ((await app.call('GET', `/accounts/1/bags/${id}`)).body.state !== 'done')
    await new Promise((resolve) => setTimeout(resolve, 100));
};
await saved(bag.id);
await call('getBag', { path: { bag: bag.id } });
await call('listBags');
const { files: inBag } = await call('listBagFiles', { path: { bag: bag.id }, query: { limit: '2' } });
const other = (await app.call('POST', '/accounts/1/bags', { place: 'download', what: 'messages', ids: [first.id] }))
  .body;
await saved(other.id);
words(
  'downloadBag',
  'The answer is `application/zip`, files uncompressed. `Range` with one range is answered with 206, so a download that broke off goes on: `curl -C -` does that.',
);
await call('checkBag', {
  path: { bag: bag.id },
  body: {
    files: [
      { path: inBag[0].path, sha256: inBag[0].sha256 },
      { path: 'another.jpg', sha256: '0'.repeat(64) },
    ],
  },
  prose: 'At most 1,000 files a call. `differs` and `unknown` are paths.',
});
await app.killWorker();
const steered = (await app.call('POST', '/accounts/1/bags', { place: 'here', where: 'size > 5 MB' })).body;
await call('pauseBag', { path: { bag: steered.id }, body: {} });
await app.call('POST', `/accounts/1/bags/${steered.id}/cancel`, {});
app.startWorker();
words('resumeBag', 'Goes on with a bag that is `paused` or `failed`. The answer is 202 and the bag.');
words('cancelBag', 'What was saved of a bag that is not whole is deleted. The answer is 202 and the bag.');
await call('deleteBag', { path: { bag: other.id } });

section(
  'The archive',
  'Mail that lies outside the mailbox, in bags of this machine: saved with `what: "mail"`, or by a run with the action `archive`. `GET messages` with `scope=archive` searches it: `id` is the number of an archived message there, `folder` and `uid` are those that it had. `complete` is false while words are still being read that a search for `text` would need. A run with the action `put-back` puts messages back; `where`, `ids` and `bag` name them in the archive, `to` is another folder than their own, and `from` another account of the session.',
);
const mail = (
  await app.call('POST', '/accounts/1/bags', {
    place: 'here',
    what: 'mail',
    where: 'under = Council and files >= 1 and size < 300 kB',
    label: 'papers of the council',
  })
).body;
await saved(mail.id);
while ((await app.call('GET', '/accounts/1/archive')).body.unread > 0)
  await new Promise((resolve) => setTimeout(resolve, 100));
await call('getArchive');
const archived = (await app.call('GET', '/accounts/1/messages?scope=archive&limit=1')).body.messages[0];
await call('getArchivedMessage', { path: { message: archived.id } });
words('downloadArchivedMessage', 'The answer is `message/rfc822`: the octets that the mail server sent.');
words(
  'downloadArchive',
  '`where` are criteria of the archive, `bag` is the number of a bag. The answer is `application/zip`, messages as `.eml` files, each with the octets that the mail server sent; with `form=maildir` it is `application/x-tar`, a Maildir with dates, flags and keywords. `Range` works as for `downloadBag`.',
);
words(
  'downloadArchivedFile',
  '`part` is a `part` of the message’s `files`. The answer is `application/octet-stream`, decoded.',
);
await call('readBag', { path: { bag: mail.id } });
await call('listDamage', { path: { bag: mail.id } });
await call('repairBag', { path: { bag: mail.id } });
words(
  'repairFromCopy',
  'The body is octets (`application/octet-stream`): of an mbox file `length` octets from `at` on, else the whole file. Other octets than those that were saved are refused with 409 `copy-differs`. The answer is 200 and the bag.',
);
await call('holdBag', {
  path: { bag: mail.id },
  body: { until: `${Number(DAY.slice(0, 4)) + 3}-12-31`, reason: 'three years by law' },
});

section(
  'Bringing mail in',
  'A file that was saved elsewhere comes in piece by piece, then its mail is read into a bag that is searched, checked and put back like any other. `brought` of the bag tells how far that is: `received` of `size` octets, then `done` of it, from 0 to 1. What broke off goes on at `received`. A file that holds no mail, is damaged as a whole, encrypted, or unpacks to more than mail does ends as `failed` with the reason; single messages that are damaged are kept as they are and counted as `flawed`.',
);
const letter = Buffer.from(
  'From odile@quorn.example Sun Aug  6 09:05:07 2013\nFrom: Odile Marchbanks <odile@quorn.example>\nSubject: From the attic\n\nAll of it in one box.\n\n',
);
const arriving = await call('bringIn', {
  body: { name: 'old computer.mbox', size: letter.length, folder: 'Old computer' },
  prose:
    '`folder` stands above the folders that the file names. `quoting` is how lines that begin with `From ` stand in an mbox file, where that is known: `mboxo`, `mboxrd`, `mboxcl` or `mboxcl2`. Without it that is told by the file, and in doubt such lines stay as they are.',
});
words(
  'sendOctets',
  'The body is octets (`application/octet-stream`), at most 8 MiB of them, from `at` on. Others than the next are refused with 409 `wrong-place`. The answer is 200 and the bag.',
);
await app.call('POST', `/accounts/1/bags/${arriving.id}/cancel`, {});

section(
  'Retention export',
  'Every message of the last years is saved into a bag that is held for as many years, and every night what is new. Nothing in the mailbox is deleted, and nobody can delete what is held through Tamsel before its day. Whoever runs the machine can destroy what is on its disk.',
);
await call('startRetention', { body: { years: 10, reason: 'books of account' } });
await call('getRetention');
await call('endRetention', { prose: 'What was saved stays held.' });

section(
  'Standing lots',
  'A standing lot is criteria, a fate and a rhythm: at each date what matches is frozen into a lot of its own and carried out. The order is: create, which tries it on the past, look at the trial, start. See [Upkeep](upkeep.md).',
);
const standing = await call('makeStandingLot', {
  body: {
    label: 'Mailings older than a year',
    where: 'category = mailings and age > 1y',
    rhythm: { unit: 'month', every: 1, day: 1, from: '2026-12-01', at: '03:00' },
    purgeAfterDays: 30,
  },
});
const standingPath = { standing: `${standing.id}` };
await call('changeStandingLot', { path: standingPath, body: { most: 5_000, mail: true } });
await call('tryStandingLot', { path: standingPath });
const { messages: takesMessages, bytes: takesBytes } = standing.trial.now;
await call('startStandingLot', {
  path: standingPath,
  body: { expect: { messages: takesMessages, bytes: takesBytes } },
});
await call('listStandingLots');
const calendar = await call('makeCalendar');
await call('readCalendar', { path: { secret: calendar.path.split('/').at(-1) } });
await call('getCalendar');
await call('deleteCalendar');
await call('stopStandingLot', { path: standingPath });
await call('deleteStandingLot', { path: standingPath });

section(
  'Asking senders to stop',
  'The order is: read, look at how each can be asked, ask. Nothing is sent before `ask`. See [Upkeep](upkeep.md).',
);
await call('readWays');
const bulkPath = '/accounts/1/bulk-senders';
await until(async () => (await app.call('GET', bulkPath)).body.unread === 0);
const { senders: bulk } = await call('listBulkSenders');
const askable = bulk.find(({ way }: { way: string }) => way === 'one-click');
// Nothing answers where the demo's senders would.
await call('askToStop', { body: { senders: [askable.sender], expect: 1 } });

section(
  'Rules for mail to come',
  'Rules are Sieve scripts (RFC 5228) on the mail server, read and written over ManageSieve (RFC 5804). Each call asks the server anew. `expect` is the `mark` of the last answer: where another program has changed a script in between, the answer is 409 and nothing is written over. See [Upkeep](upkeep.md).',
);
await call('tryRule', { body: { where: 'from ~ "fenwater.example" and size > 100 kB' } });
words('getRules', 'Answer: `{rules, running, mark, own, includes, loses, keptAt}`.');
words('addRule', 'Body: `{label, where, folder, expect}`. The answer is 201 and as for `getRules`.');
words('runRules', 'Body: `{expect}`. The answer is as for `getRules`.');
words('restoreScript', 'Body: `{expect}`. The answer is as for `getRules`.');
words('deleteRule', 'The answer is as for `getRules`.');

section(
  'Repeats',
  'What is stored more than once: messages, files, pictures nearly alike, messages that a later one quotes in full, and files that lie in a file space too. The order is: look, compare, look at what was found, create a lot. Such a lot promises that for each of its messages or files another one stays; a run that would break the promise is refused with 409 `would-take-last`. See [Repeats](repeats.md).',
);
// A message that was put into another folder once more.
const kept = host.mailbox.folder('Committee');
const inbox = host.mailbox.folder('INBOX');
const [copied] = kept?.messages ?? [];
if (inbox && copied) host.mailbox.append(inbox, copied.item.write(), copied.received, []);
await app.scanned('/accounts/1', true);
await call('getRepeats');
await call('getProvenCopies');
await call('compareRepeats', { body: { budget: 100_000_000 } });
await until(async () => (await app.call('GET', '/accounts/1/repeats')).body.proofs[0]?.state === 'done');
const { groups: twins } = await call('listTwins', { query: { limit: '1' } });
await call('listAlone', { query: { folder: twins[0].copies[0].folder, in: 'INBOX' } });
await call('createTwinLot', { body: { groups: [twins[0].id], expect: twins[0].going } });
const isRead = async (what: string) =>
  (await app.call('GET', '/accounts/1/repeats')).body.proofs.some(
    (proof: { what: string; state: string }) => proof.what === what && proof.state === 'done',
  );
// Some attached files lie in the file space too.
const large = (tinyScenario().attached ?? []).filter(({ octets }) => octets >= 100_000).slice(0, 24);
for (const [at, file] of large.entries())
  space.tree.put(`/files/Kept/file-${at}`, fileOctets(file, LETTER_LINES), file.type);
await app.call('POST', '/accounts/1/spaces', { address: space.url.href });
await until(async () => (await app.call('GET', '/accounts/1/spaces')).body.spaces[0].listing.state === 'done');
for (const what of ['files', 'pictures', 'threads', 'spaces']) {
  await app.call('POST', '/accounts/1/repeats/compare', { what, budget: 40_000_000 });
  await until(() => isRead(what));
}
const { groups: files } = await call('listRepeatedFiles', { query: { limit: '1' } });
await call('createFileLot', { body: { groups: [files[0].id], expect: files[0].going } });
const { groups: doubled } = await call('listDoubledFiles', { query: { limit: '1' } });
await call('createDoubledLot', { body: { groups: [doubled[0].id], expect: doubled[0].going } });
words(
  'createDoubledFileLots',
  'Body: as of `createDoubledLot`; `expect` is `goingThere`. Answer: 201 `{lots}`, as `makeFileLots` answers.',
);
const { series } = await call('listPictureSeries', { query: { limit: '1' } });
const [beside] = series[0].pictures.filter(({ file }: { file: number }) => file !== series[0].best);
await call('createPictureLot', { body: { files: [beside.file] } });
const { echoes } = await call('listEchoes', { query: { limit: '1' } });
await call('createEchoLot', { body: { ids: [echoes[0].id] } });
await call('tellApartAgain', { body: {} });

section('Senders');
const { senders } = await call('listSenders', {
  query: { by: 'domain', where: 'age > 1y', limit: '1' },
  prose:
    '`by` is `address`, `domain`, `list` or `recipient`. `evidence` is evidence for keeping, 0 to 100, with its `reasons`.',
});
await call('listNewestOfSender', { path: { key: senders[0].key }, query: { by: 'domain' } });
await call('listNewestByKey', { query: { by: 'domain', key: senders[0].key } });

section('Categories');
await call('listCategories');
await call('correctCategory', { body: { by: 'domain', key: senders[0].key, category: 'mailings' } });

section('Saved filters');
await call('saveFilter', { body: { name: 'big and old', where: 'size > 5 MiB and age > 1y' } });
await call('listFilters');
await call('deleteFilter', { path: { filter: 1 } });

section(
  'Searches of the mail server',
  'Criteria with `text` need the mail server: it searches its messages, folder by folder. A call with such criteria starts the search by itself and waits up to 20 seconds. After that it answers 503 with `Retry-After`.',
);
await call('startSearch', { body: { text: 'hedge' } });
await call('getSearch', { path: { search: 1 } });

section(
  'Lots',
  'A lot is a frozen set of messages for one action. The plan is all lots together. A message in several lots counts once: `adds` is what a lot adds to those before it, `only` what is in no other lot.',
);
const lot = await call('createLot', {
  body: { label: 'old mailings', where: 'category = mailings and age > 3y' },
  prose:
    '`fate` is `trash`, `purge`, `strip` or `shrink`. A lot for a purge may have `scope: "trash"`. Send `expect` with the counts that you saw; the answer is 409 if they differ.',
});
const strip = await call('createLot', {
  body: { fate: 'strip', bag: bag.id },
  prose:
    'A lot for `strip` takes files out of their messages. `where` and `ids` are of files; `bag` means the checked files of a bag. `textKept` is how many of its messages a guard keeps from being deleted: their text stays, so their files may go.',
});
const smaller = await call('createLot', {
  body: { fate: 'shrink', bag: bag.id, shrinking: { longest: 1600, place: 'keep' } },
  prose:
    'A lot for `shrink` makes pictures smaller, in one of two lengths (1600 or 2560 points). `place: "remove"` takes the place where they were taken out of them. Its octets are estimates. One run carries out lots with the same `shrinking` only.',
});
await app.call('DELETE', `/accounts/1/lots/${smaller.id}`);
await call('createLot', {
  body: { ids: [first.id, second.id], expect: { messages: 9, bytes: 1 } },
  prose: 'With an expectation that does not hold:',
});
await call('listLots');
await call('getLot', { path: { lot: lot.id } });
const part = await call('listLotMessages', {
  path: { lot: lot.id },
  query: { part: 'held', limit: '1' },
  prose: '`part` is `held`, `excepted` or `guarded`.',
});
await call('changeLot', { path: { lot: lot.id }, body: { alsoExcept: [part.messages[0].id] } });
const half = await call('splitLot', { path: { lot: lot.id }, body: { where: 'size > 50 kB' } });
await call('deleteLot', { path: { lot: half.id } });

section('The plan and suggestions');
await call('getPlan', {
  prose: 'Messages of both kinds of lot are in `purge` only. Each set is a sequence set of ids, or empty.',
});
await call('exceptFromPlan', { body: { ids: [first.id] } });
const { suggestions } = await call('listSuggestions');
await call('dismissSuggestion', { body: { key: suggestions[0]?.key ?? 'domain:none.example' } });
await call('restoreSuggestions');

section(
  'Guards',
  'A guard keeps messages out of every lot. Three are built in: `flagged`, `drafts` and `correspondents`.',
);
await call('listGuards');
const guard = await call('createGuard', {
  body: { where: 'under = Committee', years: 3, reason: 'the society’s rules' },
});
await call('liftHold', { path: { guard: guard.id }, body: { reason: 'the society was wound up' } });
await call('changeGuard', { path: { guard: 2 }, body: { active: false } });
const own = await app.call('POST', '/accounts/1/guards', { where: 'subject ~ lease' });
await call('deleteGuard', { path: { guard: own.body.id } });

section('Decisions about senders');
await call('decide', { body: { decisions: [{ by: 'domain', key: senders[0].key, decision: 'trash older than 2y' }] } });
await call('listDecisions');
await call('downloadDecisionSheet', { query: { by: 'domain', where: 'size > 1 MB' } });
await call('readDecisionSheet', { body: { sheet: 'by,sender,decision\ndomain,nobody.example,trash\n', apply: false } });

section(
  'Runs and the ledger',
  'A run carries out one `action` on a frozen set: `trash`, `purge`, `restore`, `strip` or `shrink`. Select the set with exactly one of `lots`, `where`, `ids`, `folder` (with `subfolders`), `run` (what that run moved) and `rest` (what that run did not do). A purge takes messages from the trash, from the folder that you name, or from lots for a purge.\n\n`strip` and `shrink` take lots for that, or the `rest` of such a run. They put a copy without the files, or with smaller pictures, beside each message, with its date, flags and keywords, compare it, and move the original to the trash. `added` is what was put in. To undo it, restore what the run moved: the copies go to the trash then, by a run of its own.\n\nOther members of the body: `to` is the folder for messages whose original folder is unknown. `before` takes only messages that arrived in the folder before that time. `asOf` takes only what was there, and as it was, at that `version` of the index. `copies` includes the same messages in other folders of the scope (EMAILID, RFC 8474). `expect` is as for lots.\n\nStates: `queued` → `running` → `done`, `cancelled` or `failed`; `paused` in between. One run at a time is active for an account; others wait. While it runs, `doing` has a `phase` (`measuring`, `recovering`, `planning`, `checking`, `taking-out`, `carrying-out`, `concluding`) and the number of messages in hand.\n\nMessages that a run leaves have a reason: `guarded held vanished moved changed no-room refused read-only folder-gone cancelled unknown`, and of files that can’t be taken out `signed encrypted malformed alternative unchecked differs no-gain not-decoded`. Runs on files of file spaces are told below. `undo` is what can still be restored. `agreement` says whether the database and the ledger agree about the run. `settled` is the server’s figure once it has followed a purge.',
);
const run = await call('startRun', { body: { action: 'trash', lots: [lot.id] } });
await ended(run);
await call('getRun', { path: { run: run.id } });
await call('listRuns');
await call('listRunMessages', { path: { run: run.id }, headers: { accept: 'text/csv' } });
await ended(await call('startRun', { body: { action: 'strip', lots: [strip.id] } }));
// Without a worker a run waits, and can be steered.
await app.killWorker();
const waiting = (await app.call('POST', '/accounts/1/runs', { action: 'purge', where: 'size > 1 MB' })).body;
await call('pauseRun', { path: { run: waiting.id }, body: {} });
await call('resumeRun', { path: { run: waiting.id }, body: {} });
await call('cancelRun', { path: { run: waiting.id }, body: {} });
app.startWorker();
await ended(waiting);
await call('getLedgerHead');
await call('checkLedger');
await call('listActsOfOthers');

section('The trash');
await call('getTrash');
words(
  'createTrash',
  'Body: `{name?}`. Answer: 201 `{folder}`. If there is a trash folder already, the answer is 409 `wrong-state`.',
);

section(
  'Lots and runs of files',
  'A lot of files holds files of one file space, each as it was when it was marked, and runs carry it out there: to its trash, back, or for good. Such a run has `space`, and its amounts count files as `messages`. What is not as it was marked is left: `vanished changed locked there no-room refused folder-gone cancelled unknown`.\n\nA lot for `shrink` holds pictures alone, and says with `shrinking` how they are made smaller, as a lot of files of messages does. Its run moves the originals to the trash and puts smaller pictures in their places; `added` is what these have. Pictures that can’t be made smaller are left: `no-gain not-decoded`. To undo it, restore what the run moved.',
);
{
  const { body: added } = await app.call('POST', '/accounts/1/spaces', { address: space.url.href });
  const inSpace = { space: added.id };
  await listed(app, '/accounts/1');
  const [first, second] = (await app.call('GET', `/accounts/1/spaces/${added.id}/files`)).body.files.filter(
    (file: { shared: boolean }) => !file.shared,
  );
  await call('makeFileLot', { path: inSpace, body: { label: 'Old films', ids: [first.id, second.id] } });
  const { lots } = (await app.call('GET', '/accounts/1/file-lots')).body;
  await call('listFileLots');
  await call('listFilesOfLot', { path: { lot: lots[0].id } });
  await call('changeFileLot', { path: { lot: lots[0].id }, body: { alsoExcept: [second.id] } });
  const trashing = await call('startFileRun', {
    path: inSpace,
    body: { action: 'trash', lots: [lots[0].id], expect: { files: 1 } },
  });
  await app.finished(`/accounts/1/runs/${trashing.id}`);
  await call('listFilesOfRun', { path: { run: trashing.id } });
  await call('getSpaceTrash', { path: inSpace });
  const { lots: more } = await call('makeFileLots', { body: { ids: [second.id] } });
  await call('deleteFileLot', { path: { lot: more[0].id } });
  words(
    'getSpaceFilePreview',
    'For example `GET /api/accounts/1/space-files/12/preview?size=large` answers as `getFilePreview` does.',
  );
  const { files: kept } = (await app.call('GET', `/accounts/1/spaces/${added.id}/files`)).body;
  const photograph = kept.find(
    ({ name, shared }: { name: string; shared: boolean }) => !shared && /IMG_.*\.jpg$/.test(name),
  );
  await call('getSmallerSpacePicture', { path: { file: photograph.id } });
  words('getSpaceFileWords', 'It answers as `getFileWords` does.');
  await call('listSpacePictureSeries');
  words(
    'createSpacePictureLot',
    'Body: `{files, label?}`, numbers of pictures of series in one file space. Answer: 201 and the lot.',
  );
  section(
    'Moving files to a file space',
    'An upload puts files of messages into a file space: each where nothing is, in a folder by the day and the author of its message, and reads it back. The messages stay as they are. Then a lot takes out of them what lies there. States: `queued` → `running` → `done`, `cancelled` or `failed`; `paused` in between. Reasons why a file is left: `vanished differs unreadable no-room locked folder-gone there refused altered cancelled`. `altered`: what was read back has other octets.',
  );
  const chosen = { where: 'kind = document', folder: 'From mail' };
  await call('estimateUpload', { path: inSpace, body: chosen });
  const upload = { upload: (await call('startUpload', { path: inSpace, body: { ...chosen, label: 'Documents' } })).id };
  await until(async () => (await app.call('GET', `/accounts/1/uploads/${upload.upload}`)).body.state === 'done');
  await call('listUploads');
  await call('listFilesOfUpload', { path: upload, query: { limit: '2' } });
  words('getUpload', 'It answers with one upload of the list.');
  words('pauseUpload', 'It answers as `getUpload` does. What lies there stays.');
  words('resumeUpload', 'It answers as `getUpload` does.');
  words('cancelUpload', 'It answers as `getUpload` does. What lies there stays, and can be taken out.');
  await call('createUploadLot', { path: upload, body: {} });
}

section('Settings');
await call('getSettings');
await call('changeSettings', {
  body: { target: { share: 0.75 } },
  prose:
    '`target` is a share of the limit, octets or a number of messages. `roles` says which folders are `trash sent drafts junk archive` where the server does not; null means that there is none. `mailWhen` is `never`, `long` or `always`. `scanEveryHours` scans the mailbox automatically.',
});
words(
  'requestMailAddress',
  'Body: `{to}`. Answer: 202 `{to}`. Tamsel sends mail to a confirmed address only, at most 20 a day.',
);
words('confirmMailAddress', 'Body: `{code}`, eight digits. Answer: 200 `{to}`.');

section(
  'Tokens',
  'A token is for one account. Without `acts` it may only read. Tokens can’t sign in or out, erase accounts, or manage tokens.',
);
await call('createToken', {
  body: { name: 'backup script', acts: false, endsAt: `${Number(DAY.slice(0, 4)) + 1}-06-01T00:00:00Z` },
});
await call('listTokens');
await call('revokeToken', { path: { token: 1 } });

section('Events');
words(
  'streamEvents',
  'Each event has an `id`. `scan`, `run`, `search` and `bag` have the same shape as the answers of these names. `level` and `index` say only that something changed.',
);

section('Health');
await call('getHealth');
words(
  'getMetrics',
  'The answer is text, `application/openmetrics-text` or `text/plain` by Accept. From elsewhere send `Authorization: Bearer` with `TAMSEL_METRICS_TOKEN`.',
);
words('eraseAccount', 'The answer is 204.');

out.push(PROBLEMS);
const left = Object.keys(ROUTES).filter((operation) => !told.has(operation));
if (left.length > 0) throw new Error(`docs/api.md would leave out ${left.join(', ')}`);
writeFileSync(join(ROOT, 'docs/api.md'), `${out.join('\n\n')}\n`);
await cleanUp();
process.exit();
