import { keywordLetters, type MaildirMessage, maildirFolderName, maildirName } from '../core/archive/maildir-path';
import type { TarredFile } from './tar';

/** A message that goes into a Maildir. */
export interface MessageForMaildir extends MaildirMessage {
  /** The path of its mail folder. */
  folder: string;
  read(): AsyncIterable<Uint8Array>;
}

/** When folders and lists were written last: all that is the same has the same octets. At 0 Dovecot would take a list for one that it has read. */
const WHEN = new Date(Date.UTC(1980, 0));

/** The files of a Maildir (common practice, published by its author), with folders beside the inbox and lists of keywords as Dovecot has them. */
export function maildirFiles(messages: readonly MessageForMaildir[]): TarredFile[] {
  const folders = new Map<string, MessageForMaildir[]>([['', []]]);
  for (const message of messages) {
    const name = maildirFolderName(message.folder);
    const group = folders.get(name);
    if (group) group.push(message);
    else folders.set(name, [message]);
  }
  return [...folders].flatMap(([name, group]) => folderFiles(name === '' ? 'Maildir' : `Maildir/${name}`, name, group));
}

function folderFiles(root: string, name: string, messages: readonly MessageForMaildir[]): TarredFile[] {
  const letters = keywordLetters(messages.flatMap(({ keywords }) => keywords));
  const list = [...letters.keys()].map((keyword, number) => `${number} ${keyword}\n`).join('');
  return [
    ...['', 'cur/', 'new/', 'tmp/'].map((path) => small(`${root}/${path}`, '')),
    ...(name === '' ? [] : [small(`${root}/maildirfolder`, '')]),
    ...(list === '' ? [] : [small(`${root}/dovecot-keywords`, list)]),
    ...messages.map((message) => ({
      path: `${root}/cur/${maildirName(message, letters)}`,
      size: message.size,
      modified: message.received,
      read: message.read,
    })),
  ];
}

function small(path: string, text: string): TarredFile {
  const octets = Buffer.from(text);
  async function* read() {
    yield octets;
  }
  return { path, size: octets.length, modified: WHEN, read };
}
