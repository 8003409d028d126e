import { type FileEntry, Uint8ArrayReader, ZipReader } from '@zip.js/zip.js';
import { Parser } from 'htmlparser2';
import { getDocumentProxy } from 'unpdf';
import { textOfHtml } from '../mail/html/html-to-text';
import { refused } from './picture';
import type { Made } from './tasks';

/** Characters that are told of a document. */
const MOST_CHARACTERS = 2_000;
/** Octets of text that are looked at for them. */
const MOST_OCTETS = 2 ** 20;
/** Pages of a document that are looked at. */
const MOST_PAGES = 3;

/**
 * The first words of a document: of plain text, HTML, PDF, and the two families of office documents that are ZIP archives of
 * XML (ISO/IEC 26300 and 29500).
 *
 * @param type media type, lower case.
 */
export async function words(octets: Uint8Array, type: string): Promise<Made> {
  const text = await textOf(octets, type);
  if (typeof text !== 'string') return text;
  const trimmed = text.replace(/\n{3,}/g, '\n\n').trim();
  return trimmed === '' ? refused('no-words') : { kind: 'words', text: trimmed.slice(0, MOST_CHARACTERS) };
}

async function textOf(octets: Uint8Array, type: string): Promise<string | Made> {
  const starts = (mark: string) => Buffer.from(octets.subarray(0, mark.length)).toString('latin1') === mark;
  if (starts('%PDF-')) return textOfPdf(octets);
  if (starts('PK\x03\x04')) return textOfOffice(octets);
  const first = octets.subarray(0, MOST_OCTETS);
  if (!type.startsWith('text/') && first.includes(0)) return refused('unknown-format');
  const read = characters(first);
  return type === 'text/html' ? textOfHtml(read) : read;
}

/** As UTF-8 where it is that, else as the octets of Western European text; a file seldom says which. */
function characters(octets: Uint8Array): string {
  try {
    // Its end may be in the middle of a character.
    return new TextDecoder('utf-8', { fatal: true }).decode(octets, { stream: true });
  } catch {
    return new TextDecoder('windows-1252').decode(octets);
  }
}

async function textOfPdf(octets: Uint8Array): Promise<string | Made> {
  try {
    // Nothing of the document is run, and nothing is loaded for it.
    const document = await getDocumentProxy(new Uint8Array(octets), {
      isEvalSupported: false,
      disableFontFace: true,
      useSystemFonts: false,
      enableXfa: false,
      verbosity: 0,
    });
    let text = '';
    for (let page = 1; page <= Math.min(MOST_PAGES, document.numPages) && text.length < MOST_CHARACTERS; page++) {
      const { items } = await (await document.getPage(page)).getTextContent();
      for (const item of items) if ('str' in item) text += item.hasEOL ? `${item.str}\n` : item.str;
      text += '\n\n';
    }
    return text;
  } catch (error) {
    return refused((error as Error).name === 'PasswordException' ? 'locked' : 'damaged');
  }
}

/** Where the text of an office document is, and the elements that end a line in it. */
const TEXTS = /^(word\/document\.xml|content\.xml|xl\/sharedStrings\.xml|ppt\/slides\/slide1\.xml)$/;
const LINES = new Set(['w:p', 'w:br', 'text:p', 'text:h', 'text:line-break', 'a:p', 'si', 'table:table-row']);
const BLANKS = new Set(['w:tab', 'text:tab', 'text:s', 'table:table-cell', 'w:tc']);
/** Entries of an archive that are looked through. */
const MOST_ENTRIES = 5_000;

async function textOfOffice(octets: Uint8Array): Promise<string | Made> {
  const archive = new ZipReader(new Uint8ArrayReader(octets), { useWebWorkers: false });
  try {
    let seen = 0;
    for await (const entry of archive.getEntriesGenerator()) {
      if (++seen > MOST_ENTRIES) break;
      if (!TEXTS.test(entry.filename) || entry.directory) continue;
      return entry.encrypted ? refused('locked') : await textOfXml(entry);
    }
    return refused('unknown-format');
  } catch {
    return refused('damaged');
  } finally {
    await archive.close();
  }
}

/** The text of an entry's first octets; what is behind them is not unpacked. */
async function textOfXml(entry: FileEntry): Promise<string> {
  let text = '';
  const parser = new Parser(
    {
      ontext: (piece) => {
        text += piece;
      },
      onopentagname: (name) => {
        if (BLANKS.has(name)) text += ' ';
      },
      onclosetag: (name) => {
        if (LINES.has(name)) text += '\n';
      },
    },
    { xmlMode: true, decodeEntities: true },
  );
  const decoder = new TextDecoder();
  const enough = new AbortController();
  let left = MOST_OCTETS;
  const sink = new WritableStream<Uint8Array>({
    write(piece) {
      parser.write(decoder.decode(piece.subarray(0, left), { stream: true }));
      left -= piece.length;
      if (left <= 0 || text.length >= MOST_CHARACTERS) enough.abort();
    },
  });
  try {
    await entry.getData(sink, { signal: enough.signal, useWebWorkers: false });
  } catch (error) {
    if (!enough.signal.aborted) throw error;
  }
  return text;
}
