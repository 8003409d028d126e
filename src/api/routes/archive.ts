import { Readable } from 'node:stream';
import * as s from '../../contract/schemas';
import { safeName } from '../../core/archive/safe-name';
import { partOfSection } from '../../core/mime/rewrite';
import { MimeScanner } from '../../core/mime/scanner';
import { decoded } from '../../mail/mime/decoded';
import { readableMessage } from '../../mail/mime/readable-text';
import type { Account } from '../../store/access/accounts';
import { type ArchivedPlace, archivedById, archiveFigures } from '../../store/archive/archived';
import { filesWithParts } from '../../store/index/files';
import type { Environment } from '../environment';
import { conflict, notFound } from '../problem';
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
    const scanner = new MimeScanner();
    for await (const piece of read()) scanner.push(piece);
    const part = partOfSection(scanner.end(), file.part);
    if (!part) throw notFound();
    const octets = decoded(within(read(), part.bodyFrom, part.bodyTo), part.encoding);
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

/** The octets between two places. */
async function* within(octets: AsyncIterable<Buffer>, from: number, to: number): AsyncGenerator<Buffer> {
  let at = 0;
  for await (const piece of octets) {
    const begin = Math.max(0, from - at);
    const end = Math.min(piece.length, to - at);
    if (end > begin) yield piece.subarray(begin, end);
    at += piece.length;
    if (at >= to) return;
  }
}
