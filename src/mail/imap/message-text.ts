import libqp from 'libqp';
import { storable } from '../../core/text';
import { readHtml } from '../html/reader';
import { decodeCharset } from '../mime/charset';
import { parameterOf } from '../mime/parameter';
import type { Channel } from './channel/channel';
import type { Patience } from './channel/timeouts';
import { readParts } from './fetch/structure';
import type { Cursor } from './wire/cursor';

/** Octets of a header or body that are fetched for reading. */
const MAX_READ = 256 * 1024;

/** A part of a message that can be read. */
interface TextPart {
  section: string;
  type: string;
  charset: string;
  encoding: string;
}

/** The first text part that is to be read: plain where there is one, else HTML without its tags. */
export async function messageText(channel: Channel, uid: number, patience: Patience): Promise<string> {
  const parts: TextPart[] = [];
  await fetchItem(channel, uid, patience, 'BODYSTRUCTURE', 'BODYSTRUCTURE', (cursor) => {
    let depth = 0;
    readParts(cursor, {
      enters: () => depth++,
      part({ path, type, parameters, encoding, disposition, isMessage }) {
        if (isMessage) depth--;
        // What an enclosed message says is not what this one says.
        else if (depth === 0 && disposition.kind !== 'attachment')
          parts.push({ section: path.join('.'), type, charset: parameterOf(parameters, 'charset'), encoding });
      },
    });
  });
  const part = parts.find(({ type }) => type === 'text/plain') ?? parts.find(({ type }) => type === 'text/html');
  if (!part) return '';
  const octets = await section(channel, uid, part.section, patience);
  const text = decodeCharset(decodeTransfer(octets, part.encoding), part.charset || 'utf-8');
  return storable(part.type === 'text/html' ? await readHtml(text) : text);
}

/** The header as it stands. */
export async function messageHeader(channel: Channel, uid: number, patience: Patience): Promise<string> {
  return Buffer.from(await section(channel, uid, 'HEADER', patience), 'latin1').toString('utf8');
}

/** The beginning of a section, an octet a character. */
async function section(channel: Channel, uid: number, name: string, patience: Patience): Promise<string> {
  let octets = '';
  await fetchItem(channel, uid, patience, `BODY.PEEK[${name}]<0.${MAX_READ}>`, 'BODY', (cursor) => {
    octets = cursor.octets();
  });
  return octets;
}

async function fetchItem(
  channel: Channel,
  uid: number,
  patience: Patience,
  asked: string,
  item: 'BODY' | 'BODYSTRUCTURE',
  read: (cursor: Cursor) => void,
): Promise<void> {
  await channel.run({
    pieces: [`UID FETCH ${uid} (UID ${asked})`],
    patience: patience.plain,
    take({ word, cursor }) {
      if (word !== 'FETCH') return false;
      cursor.list();
      while (!cursor.closes()) {
        if (cursor.item() === item) read(cursor);
        else cursor.skip();
      }
      return true;
    },
  });
}

/** RFC 2045 §6; what is cut off in the middle of a group is left out. */
function decodeTransfer(octets: string, encoding: string): Buffer {
  if (encoding === 'base64') return Buffer.from(octets, 'base64');
  if (encoding === 'quoted-printable') return libqp.decode(octets);
  return Buffer.from(octets, 'latin1');
}
