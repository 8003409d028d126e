import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { setTimeout as sleep } from 'node:timers/promises';
import { parseArgs } from 'node:util';
import { printOctets } from '../core/units';
import { type ArrivingBag, type CopyVerdict, checkCopy, download, upload } from './api-files';
import { type MessagePage, messageLines } from './api-messages';
import { EXIT, Stop } from './exits';
import { say } from './say';

const API_HELP = `./tamsel api: asks a running Tamsel, with a token from its settings

  ./tamsel api level
  ./tamsel api senders [--by domain|address|list|recipient] [--order bytes|messages|…] [--where CRITERIA] [--limit N]
  ./tamsel api messages [--where CRITERIA] [--scope mail|trash|all|archive] [--order size|date|from|subject]   all of them, as CSV
  ./tamsel api lots
  ./tamsel api guards                                     what is kept, whatever a plan says
  ./tamsel api mark --where CRITERIA [--label TEXT]       adds to the plan; --where '' is everything
           --archive                                     is saved and checked before it goes to the trash
  ./tamsel api mark --bag N                               takes the checked files of a bag out of the mail
           --shrink 1600|2560                            or makes its pictures smaller: points of the longer side
  ./tamsel api files [--where CRITERIA] [--order size|date|name|from] [--limit N]
  ./tamsel api save --where CRITERIA | --lots 1,2 [--what files|messages|mail] [--place here|download] [--label TEXT]
  ./tamsel api bags
  ./tamsel api archive                                    what lies in the archive, and how safe it is
  ./tamsel api read BAG                                   reads every octet of a bag again, later on
  ./tamsel api repair BAG                                 from another bag, the mailbox or the trash
  ./tamsel api hold BAG --until DAY --reason TEXT         nobody can delete it before
  ./tamsel api download BAG FILE [--as maildir|eml]       as a ZIP archive, or its mail as a Maildir in a tar archive or as
           .eml files; a FILE that is there is gone on with
  ./tamsel api check BAG FOLDER                           compares an unpacked copy; 0 only if all of it is equal
  ./tamsel api retention [--years N --reason TEXT | --stop]   saves every message of the last years every night, under a hold
  ./tamsel api bring-in FILE [--folder FOLDER] [--quoting mboxrd|…] [--label TEXT]   mail that was saved elsewhere: an mbox
           file, a Maildir as tar or ZIP, .eml alone or in a ZIP, a downloaded bag; what broke off is gone on with
  ./tamsel api scan
  ./tamsel api runs
  ./tamsel api run trash|archive|purge|restore|strip|shrink [--lots 1,2] [--where CRITERIA] [--folder PATH] [--run N] [--expect MESSAGES]
  ./tamsel api run put-back [--bag N] [--where CRITERIA] [--to FOLDER]   messages of the archive
           purge wants --expect: how many messages go for good

  --wait waits for the end of a scan, a run or a save; the exit code is 0 only where it is done.
  --json prints what the API answers; of messages, one a line. Variables: TAMSEL_TOKEN, TAMSEL_URL (http://127.0.0.1:4321)`;

type Options = Record<string, string | boolean | undefined>;
type Row = Record<string, unknown>;

/** Carries out one call of the API. @returns the exit code. */
export async function api(args: string[]): Promise<number> {
  const { words, options } = read(args);
  const [command, action, last] = words;
  if (!command || command === 'help') {
    say(API_HELP);
    return command ? 0 : EXIT.usage;
  }
  if (command === 'mark' && options.where === undefined && options.bag === undefined)
    throw new Stop(EXIT.usage, "Say what is to be marked: --where 'size > 5 MB'. With --where '' it is everything.");
  const ask = await connected();
  if (command === 'messages') {
    await writeMessages(ask, options);
    return 0;
  }
  if (command === 'save' && options.where === undefined && options.lots === undefined)
    throw new Stop(EXIT.usage, "Say what is to be saved: --where 'kind = picture'. With --where '' it is everything.");
  if (command === 'download' || command === 'check') {
    if (!/^\d{1,9}$/.test(action ?? '') || last === undefined)
      throw new Stop(EXIT.usage, `Say the number of a bag and a path: ./tamsel api ${command} 1 …`);
    return command === 'download' ? downloaded(ask, `${action}`, last, options) : checked(ask, `${action}`, last);
  }
  if (command === 'bring-in' && action === undefined)
    throw new Stop(EXIT.usage, 'Say which file: ./tamsel api bring-in old-mail.mbox.');
  let answer = (
    command === 'bring-in' ? await bringIn(ask, `${action}`, options) : await carryOut(ask, command, action, options)
  ) as Row;
  const work = WORK[command];
  const isWork = work !== undefined;
  if (isWork && options.wait) answer = await ended(ask, `/${work}/${answer.id}`);
  if (options.json) say(JSON.stringify(answer, null, 2));
  else say(shown(command, answer));
  return isWork && options.wait && answer.state !== 'done' ? EXIT.failed : 0;
}

function read(args: string[]): { words: string[]; options: Options } {
  const text = { type: 'string' } as const;
  try {
    const { values, positionals } = parseArgs({
      args,
      allowPositionals: true,
      options: {
        by: text,
        order: text,
        scope: text,
        where: text,
        limit: text,
        label: text,
        what: text,
        place: text,
        bag: text,
        shrink: text,
        lots: text,
        folder: text,
        run: text,
        expect: text,
        to: text,
        until: text,
        quoting: text,
        years: text,
        stop: { type: 'boolean' },
        as: text,
        reason: text,
        archive: { type: 'boolean' },
        wait: { type: 'boolean' },
        json: { type: 'boolean' },
      },
    });
    return { words: positionals, options: values };
  } catch (error) {
    throw new Stop(EXIT.usage, `${(error as Error).message}; see ./tamsel api help.`);
  }
}

/** Writes as fast as whoever reads takes it. */
async function writeMessages(ask: Ask, options: Options): Promise<void> {
  const page = (after: string | undefined) => {
    const query = { where: options.where, scope: options.scope, order: options.order, limit: '1000', after };
    const said = Object.entries(query).filter((entry): entry is [string, string] => typeof entry[1] === 'string');
    return ask('GET', `/messages?${new URLSearchParams(said)}`) as Promise<MessagePage>;
  };
  await pipeline(Readable.from(messageLines(page, options.json === true)), process.stdout, { end: false });
}

/** Where the API tells how far work is, by the command that begins it. */
const WORK: Readonly<Record<string, string>> = { scan: 'scans', run: 'runs', save: 'bags', 'bring-in': 'bags' };

async function downloaded(ask: Ask, bag: string, file: string, { as: form }: Options): Promise<number> {
  const path = form === undefined ? `/bags/${bag}/download` : `/archive/download?bag=${bag}&form=${form}`;
  await download((from) => ask.raw(path, from > 0 ? { range: `bytes=${from}-` } : {}), file);
  say(`Written to ${file}.`);
  return 0;
}

async function checked(ask: Ask, bag: string, folder: string): Promise<number> {
  const verdict = await checkCopy(
    folder,
    async (files) => (await ask('POST', `/bags/${bag}/check`, { files })) as CopyVerdict,
  );
  say(`${verdict.checked} files are equal.`);
  for (const path of verdict.differs) say(`differs: ${path}`);
  for (const path of verdict.unknown) say(`not of this bag: ${path}`);
  return verdict.differs.length === 0 && verdict.checked > 0 ? 0 : EXIT.failed;
}

/** Sends a file that is brought in; one of that name and size that broke off goes on. */
async function bringIn(ask: Ask, path: string, { folder, quoting, label }: Options): Promise<ArrivingBag> {
  const begin = async (name: string, size: number) => {
    const { bags } = (await ask('GET', '/bags')) as { bags: (ArrivingBag & { state: string })[] };
    const open = bags.find(
      (bag) => bag.state === 'receiving' && bag.brought?.name === name && bag.brought.size === size,
    );
    return open ?? ((await ask('POST', '/bring-in', { name, size, folder, quoting, label })) as ArrivingBag);
  };
  const send = (bag: number, at: number, octets: Uint8Array) =>
    ask('POST', `/bring-in/${bag}?at=${at}`, octets) as Promise<ArrivingBag>;
  return upload(path, begin, send);
}

const STILL_GOING = ['queued', 'running', 'checking'];
const LOOK_MS = 500;

/** Waits until a scan, a run or a save does not go on by itself any more. */
async function ended(ask: Ask, path: string): Promise<Row> {
  for (;;) {
    const now = (await ask('GET', path)) as Row;
    if (!STILL_GOING.includes(`${now.state}`)) return now;
    await sleep(LOOK_MS);
  }
}

interface Ask {
  (method: string, path: string, body?: unknown): Promise<unknown>;
  /** What is no JSON. */
  raw(path: string, headers: Record<string, string>): Promise<Response>;
}

/** A way to ask about the account that the token is good for. */
async function connected(): Promise<Ask> {
  const { TAMSEL_TOKEN: token, TAMSEL_URL: url = 'http://127.0.0.1:4321' } = process.env;
  if (!token) throw new Stop(EXIT.usage, 'TAMSEL_TOKEN is missing: make a token in the settings.');
  const ask = async (method: string, path: string, body?: unknown): Promise<unknown> => {
    const answer = await fetch(new URL(`/api${path}`, url), {
      method,
      headers: { authorization: `Bearer ${token}`, ...(body ? { 'content-type': typeOf(body) } : {}) },
      ...(body ? { body: (body instanceof Uint8Array ? body : JSON.stringify(body)) as BodyInit } : {}),
    }).catch(() => {
      throw new Stop(EXIT.failed, `Tamsel does not answer at ${url}.`);
    });
    const read = (await answer.json()) as { type?: string; detail?: string };
    if (read.type === '/problems/not-as-expected')
      throw new Stop(
        EXIT.failed,
        `${read.detail} Nothing was begun; say --expect with the number of messages that is meant.`,
      );
    if (!answer.ok) throw new Stop(EXIT.failed, read.detail ?? `Tamsel answered ${answer.status}.`);
    return read;
  };
  const { accounts } = (await ask('GET', '/session')) as { accounts: { id: number }[] };
  const account = `/accounts/${accounts[0]?.id}`;
  return Object.assign((method: string, path: string, body?: unknown) => ask(method, `${account}${path}`, body), {
    raw: (path: string, headers: Record<string, string>) =>
      fetch(new URL(`/api${account}${path}`, url), { headers: { ...headers, authorization: `Bearer ${token}` } }),
  });
}

function typeOf(body: unknown): string {
  return body instanceof Uint8Array ? 'application/octet-stream' : 'application/json';
}

function lotsOf({ lots }: Options): { lots?: number[] } {
  return lots === undefined ? {} : { lots: `${lots}`.split(',').map(Number) };
}

/** What becomes of checked files: they are taken out, or as pictures made smaller. */
function fateOf({ shrink }: Options): object {
  return shrink === undefined ? { fate: 'strip' } : { fate: 'shrink', shrinking: { longest: Number(shrink) } };
}

function carryOut(ask: Ask, command: string, action: string | undefined, options: Options): Promise<unknown> {
  const query = (names: string[]) =>
    new URLSearchParams(names.flatMap((name) => (options[name] === undefined ? [] : [[name, `${options[name]}`]])));
  switch (command) {
    case 'level':
      return ask('GET', '/level');
    case 'senders':
      return ask('GET', `/senders?${query(['by', 'order', 'where', 'limit'])}`);
    case 'lots':
      return ask('GET', '/lots');
    case 'mark':
      return options.bag === undefined
        ? ask('POST', '/lots', {
            where: options.where ?? '',
            label: options.label,
            ...(options.archive ? { fate: 'archive' } : {}),
          })
        : ask('POST', '/lots', { ...fateOf(options), bag: Number(options.bag), label: options.label });
    case 'files':
      return ask('GET', `/files?${query(['order', 'where', 'limit', 'scope'])}`);
    case 'bags':
      return ask('GET', '/bags');
    case 'save':
      return ask('POST', '/bags', {
        place: options.place ?? 'here',
        what: options.what,
        where: options.where,
        ...lotsOf(options),
        label: options.label,
      });
    case 'archive':
      return ask('GET', '/archive');
    case 'read':
    case 'repair':
      return ask('POST', `/bags/${action}/${command}`);
    case 'hold':
      return ask('POST', `/bags/${action}/hold`, { until: options.until, reason: options.reason });
    case 'retention':
      return options.stop
        ? ask('DELETE', '/retention')
        : options.years === undefined
          ? ask('GET', '/retention')
          : ask('POST', '/retention', { years: Number(options.years), reason: options.reason });
    case 'runs':
      return ask('GET', '/runs');
    case 'scan':
      return ask('POST', '/scans', {});
    case 'guards':
      return ask('GET', '/guards');
    case 'run':
      return ask('POST', '/runs', {
        ...expected(action, options),
        action,
        where: options.where,
        folder: options.folder,
        to: options.to,
        ...(options.bag === undefined ? {} : { bag: Number(options.bag) }),
        ...lotsOf(options),
        ...(options.run === undefined ? {} : { run: Number(options.run) }),
      });
  }
  throw new Stop(EXIT.usage, `There is no command ${command}; see ./tamsel api help.`);
}

/** How many messages a run has to touch. What is purged without a number is not begun, and its refusal tells the number. */
function expected(action: string | undefined, { expect }: Options): { expect?: { messages: number } } {
  if (expect === undefined) return action === 'purge' ? { expect: { messages: 0 } } : {};
  if (!/^\d{1,9}$/.test(`${expect}`)) throw new Stop(EXIT.usage, '--expect is a number of messages.');
  return { expect: { messages: Number(expect) } };
}

/** What a person wants to see of an answer. */
function shown(command: string, answer: Row): string {
  const octets = (value: unknown) => (value == null ? '–' : printOctets(Number(value), 'binary'));
  const amount = (value: unknown) => value as { messages: number; bytes: number };
  switch (command) {
    case 'level': {
      const { used, limit, mail, trash, plan, after, folders } = answer;
      return table(
        [
          ['used', octets(used), ''],
          ['limit', octets(limit), ''],
          ['mail', octets(amount(mail).bytes), `${amount(mail).messages}`],
          ['trash', octets(amount(trash).bytes), `${amount(trash).messages}`],
          ['plan', octets(amount(plan).bytes), `${amount(plan).messages}`],
          ['after this plan', octets(after), ''],
          ...(folders as Row[]).map(({ path, bytes, messages }) => [`  ${path}`, octets(bytes), `${messages}`]),
        ],
        ['', 'size', 'messages'],
      );
    }
    case 'senders':
      return table(
        (answer.senders as Row[]).map(({ key, messages, bytes, last }) => [
          `${key}`,
          octets(bytes),
          `${messages}`,
          `${last}`.slice(0, 10),
        ]),
        ['sender', 'size', 'messages', 'last'],
      );
    case 'runs':
      return table((answer.runs as Row[]).map(runRow), RUN_HEADS);
    case 'run':
      return table([runRow(answer)], RUN_HEADS);
    case 'scan':
      return table(
        [[`${answer.id}`, `${(answer.messages as Row).done}`, `${answer.stage}`, `${answer.state}`]],
        ['scan', 'messages', 'stage', 'state'],
      );
    case 'guards':
      return table(
        (answer.guards as Row[]).map(({ id, label, kind, bytes, messages }) => [
          `${id} ${label ?? kind}`,
          octets(bytes),
          `${messages}`,
        ]),
        ['guard', 'size', 'messages'],
      );
    case 'mark':
      return table([lotRow(answer)], LOT_HEADS);
    case 'files':
      return table(
        (answer.files as Row[]).map(({ name, size, from, date, copy }) => [
          `${name}`,
          octets(size),
          `${(from as Row | null)?.address ?? ''}`,
          `${date ?? ''}`.slice(0, 10),
          `${copy}`,
        ]),
        ['file', 'size', 'from', 'date', 'copy'],
      );
    case 'bags':
      return table((answer.bags as Row[]).map(bagRow), BAG_HEADS);
    case 'bring-in':
    case 'save':
    case 'read':
    case 'repair':
    case 'hold':
      return table([bagRow(answer)], BAG_HEADS);
    case 'retention': {
      const { years, reason, nextAt, lastAt } = (answer.retention ?? {}) as Row;
      return table(
        [
          ['kept so', octets(amount(answer.kept).bytes), `${amount(answer.kept).messages}`],
          ['years', '', `${years ?? 'not saved every night'}`],
          ...(years === undefined
            ? []
            : [
                ['reason', '', `${reason}`],
                ['last saved', '', `${lastAt ?? 'never'}`],
                ['next', '', `${nextAt}`],
              ]),
        ],
        ['', 'size', 'number'],
      );
    }
    case 'archive': {
      const files = (value: unknown) => `${(value as { files: number }).files}`;
      return table(
        [
          ['messages', octets(answer.bytes), `${answer.messages}`],
          ['files', octets(amount(answer.files).bytes), files(answer.files)],
          ['damaged', octets(amount(answer.damaged).bytes), files(answer.damaged)],
          ['without a copy elsewhere', octets(amount(answer.onlyHere).bytes), files(answer.onlyHere)],
          ['free on the disk', octets(answer.free), ''],
        ],
        ['', 'size', 'number'],
      );
    }
    default:
      return table((answer.lots as Row[]).map(lotRow), LOT_HEADS);
  }

  function lotRow({ id, label, messages, bytes }: Row): string[] {
    return [`${id} ${label}`, octets(bytes), `${messages}`];
  }

  function bagRow({ id, label, state, asked, saved, checked }: Row): string[] {
    const files = (value: unknown) => `${(value as { files: number }).files}`;
    return [`${id} ${label}`, octets(amount(saved).bytes), files(asked), files(saved), files(checked), `${state}`];
  }

  function runRow({ id, action, state, asked, done, left }: Row): string[] {
    return [
      `${id} ${action}`,
      octets(amount(asked).bytes),
      `${amount(asked).messages}`,
      `${amount(done).messages}`,
      `${state}`,
      // What was kept out, and why.
      (left as Row[]).map(({ reason, messages }) => `${messages} ${reason}`).join(', '),
    ];
  }
}

const LOT_HEADS = ['lot', 'size', 'messages'];
const BAG_HEADS = ['bag', 'size', 'asked', 'saved', 'checked', 'state'];
const RUN_HEADS = ['run', 'size', 'messages', 'done', 'state', 'left'];

/** Rows under heads; the first column is text, the others stand to the right. */
function table(rows: string[][], heads: string[]): string {
  const all = [heads, ...rows];
  const widths = heads.map((_, column) => Math.max(...all.map((row) => (row[column] ?? '').length)));
  return all
    .map((row) =>
      row
        .map((cell, column) => (column === 0 ? cell.padEnd(widths[0] ?? 0) : cell.padStart(widths[column] ?? 0)))
        .join('  ')
        .trimEnd(),
    )
    .join('\n');
}
