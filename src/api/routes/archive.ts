import { createHash } from 'node:crypto';
import { Readable } from 'node:stream';
import * as v from 'valibot';
import { maildirFiles } from '../../archive/maildir';
import { between } from '../../archive/zip';
import * as s from '../../contract/schemas';
import { emlPath } from '../../core/archive/eml-path';
import { safeName } from '../../core/archive/safe-name';
import { readFlags } from '../../core/mailbox/flags';
import { partOfSection } from '../../core/mime/rewrite';
import { decoded } from '../../mail/mime/decoded';
import { openMessage } from '../../mail/mime/message-parts';
import { readableMessage } from '../../mail/mime/readable-text';
import type { Account } from '../../store/access/accounts';
import {
  type ArchivedPlace,
  archivedById,
  archivedIds,
  archivedOfBag,
  archivedPlaces,
  archiveFigures,
} from '../../store/archive/archived';
import { filesWithParts } from '../../store/index/files';
import { tarAnswer, zipAnswer } from '../archive-answer';
import { allOfArchive } from '../archive-search';
import type { Environment } from '../environment';
import { conflict, invalid, notFound } from '../problem';
import { route } from '../route';

export const getArchive = route({
  method: 'GET',
  path: '/accounts/{account}/archive',
  summary:
    'Returns what lies in the archive on this machine: messages and files in bags that were read back, the room left on its disk, and how much has no copy elsewhere. To search it, list messages with `scope=archive`.',
  response: s.Archive,
  async handle({ environment: { database, archive }, account }) {
    const [figures, free] = await Promise.all([archiveFigures(database, account.id), archive.freeOctets()]);
    return { ...figures, free };
  },
});

interface Opened {
  message: ArchivedPlace;
  /** All octets, as the mail server sent them. */
  read(): AsyncIterable<Buffer>;
}

async function opened({ database, archive }: Environment, account: Account, id: string | undefined): Promise<Opened> {
  const message = await archivedById(database, account.id, Number(id));
  if (!message) throw notFound();
  const folder = archive.bag(account.id, message.bagFolder);
  const first = await folder.message(message);
  if (!first)
    throw conflict(
      'bag-missing',
      `The file of bag ${message.bag} that holds this message is not on this machine any more.`,
    );
  let next: AsyncIterable<Buffer> | undefined = first;
  return {
    message,
    async *read() {
      const octets = next ?? (await folder.message(message));
      next = undefined;
      if (octets) yield* octets;
    },
  };
}

export const getArchivedMessage = route({
  method: 'GET',
  path: '/accounts/{account}/archive/messages/{message}',
  summary: 'Returns a message of the archive as it was: its header, its text as plain text, and its files.',
  response: s.ArchivedDetails,
  async handle({ environment, account, parameters }) {
    const { message, read } = await opened(environment, account, parameters.message);
    const { bagFolder: _, path: __, at: ___, length: ____, files: _____, message: ______, ...shown } = message;
    const [{ header, text }, files] = await Promise.all([
      readableMessage(read),
      filesWithParts(environment.database, account.id, message.message),
    ]);
    return { ...shown, ...NOT_IN_MAILBOX, header, text, files };
  },
});

/** What only a message of the mailbox has. */
export const NOT_IN_MAILBOX = { origin: null, trashedBy: null, placedAt: null } as const;

export const downloadArchivedMessage = route({
  method: 'GET',
  path: '/accounts/{account}/archive/messages/{message}/eml',
  summary: 'Downloads a message of the archive with the octets that the mail server sent (RFC 5322).',
  formats: ['message/rfc822'],
  async handle({ environment, account, parameters }) {
    const { message, read } = await opened(environment, account, parameters.message);
    const octets = Readable.toWeb(Readable.from(read(), { objectMode: false }));
    const name = `${safeName(message.subject, 'message')}.eml`;
    return new Response(octets as unknown as BodyInit, { headers: attachment('message/rfc822', name, message.size) });
  },
});

/** Messages that one download holds. */
const MOST_ZIPPED = 200_000;
/** Messages that are looked up at a time. */
const PAGE = 5_000;

export const downloadArchive = route({
  method: 'GET',
  path: '/accounts/{account}/archive/download',
  summary:
    'Downloads messages of the archive: those that match `where`, or those of a bag. As .eml files in a ZIP archive (ZIP64 where it has to be), a folder for each mail folder; or as a Maildir in a tar archive, with date, flags and keywords. A download that broke off goes on with `Range`.',
  query: v.object({
    where: v.optional(v.pipe(v.string(), v.maxLength(10_000))),
    bag: v.optional(s.wholeNumber(1, 2 ** 31 - 1)),
    form: v.optional(v.picklist(['eml', 'maildir']), 'eml'),
  }),
  formats: ['application/zip', 'application/x-tar'],
  also: { 206: { description: 'The octets that were asked for.' } },
  async handle({ environment, account, query: { where, bag, form }, request }) {
    const { database } = environment;
    if ((where === undefined) === (bag === undefined))
      throw invalid('Say one of where and bag.', [{ field: 'where', expected: 'exactly one of where and bag' }]);
    const ids =
      bag === undefined
        ? await archivedIds(database, await allOfArchive(environment, account, where ?? ''))
        : await archivedOfBag(database, account.id, bag);
    if (ids.length === 0) throw conflict('nothing-to-do', 'No message of the archive matches.');
    if (ids.length > MOST_ZIPPED)
      throw conflict(
        'too-many-messages',
        `These are ${ids.length} messages, and one download holds ${MOST_ZIPPED}. Narrow it down.`,
      );
    const asked = createHash('sha256').update(JSON.stringify(ids)).digest('hex').slice(0, 32);
    const name = `archive-${new Date().toISOString().slice(0, 10)}`;
    const mark = `${account.id}-${form}-${asked}`;
    const messages = await readableOnes(environment, account, ids);
    if (form === 'maildir') return tarAnswer(request, maildirFiles(messages), name, mark);
    const days = new Intl.DateTimeFormat('en-CA', { timeZone: account.settings.timeZone });
    const files = messages.map(({ id, folder, received, date, from, subject, size, read }) => {
      const author = from?.name || from?.address || '';
      return { path: emlPath({ id, folder, day: days.format(date ?? received), author, subject }), size, read };
    });
    return zipAnswer(request, files, name, mark);
  },
});

/** Messages of the archive with their octets. */
async function readableOnes({ database, archive }: Environment, account: Account, ids: readonly number[]) {
  const found: (Omit<ArchivedPlace, 'flags'> & { flags: number; read(): AsyncGenerator<Buffer> })[] = [];
  for (let at = 0; at < ids.length; at += PAGE)
    for (const message of await archivedPlaces(database, account.id, ids.slice(at, at + PAGE))) {
      const { path, at: place, length, size, bagFolder, flags } = message;
      async function* read() {
        const octets = await archive.bag(account.id, bagFolder).message({ path, at: place, length, size });
        if (octets) yield* octets as AsyncIterable<Buffer>;
      }
      found.push({ ...message, flags: readFlags(flags.map((name) => `\\${name}`)).bits, read });
    }
  return found;
}

export const downloadArchivedFile = route({
  method: 'GET',
  path: '/accounts/{account}/archive/messages/{message}/files/{part}',
  summary: 'Downloads a file of a message of the archive, decoded. `part` is its section of the message.',
  formats: ['application/octet-stream'],
  async handle({ environment, account, parameters }) {
    const { message, read } = await opened(environment, account, parameters.message);
    const files = await filesWithParts(environment.database, account.id, message.message);
    const file = files.find(({ part }) => part !== '' && part === parameters.part);
    if (!file) throw notFound();
    const { structure } = await openMessage(read);
    const part = partOfSection(structure, file.part);
    if (!part) throw notFound();
    const octets = decoded(between(read(), part.bodyFrom, part.bodyTo - 1), part.encoding);
    const body = Readable.toWeb(Readable.from(octets, { objectMode: false }));
    const name = safeName(file.name, 'file');
    return new Response(body as unknown as BodyInit, { headers: attachment('application/octet-stream', name) });
  },
});

/** Nothing of what is downloaded is shown by the browser. */
function attachment(type: string, name: string, size?: number): Record<string, string> {
  return {
    'content-type': type,
    'content-disposition': `attachment; filename*=UTF-8''${encodeURIComponent(name).replace(/[!'()*]/g, '_')}`,
    'cache-control': 'private, no-store',
    ...(size === undefined ? {} : { 'content-length': `${size}` }),
  };
}
