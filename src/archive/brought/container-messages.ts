import { withMailLineEnds } from '../../core/brought/line-ends';
import { maildirFolder, maildirKeywords, maildirPlace } from '../../core/brought/maildir';
import type { Quoting } from '../../core/brought/quoting';
import type { Region } from '../region';
import { BagIndex } from './bag-messages';
import type { Container, Entry } from './container';
import { isMbox } from './mbox';
import { mboxMessages } from './mbox-messages';
import type { BroughtItem, BroughtMessage } from './message';
import { CutOff } from './unreadable';

/** Octets of a list of keywords, and how many of them are read. */
const MOST_LIST = 64 * 1024;
const MOST_LISTS = 10_000;
/** Octets by which a file is told to be an mbox file. */
const BEGINNING = 1024;

/** What an archive holds, as far as it matters to each of its files. */
interface Contents {
  count: number;
  /** Levels of folders that all files have in common. */
  common: string[];
  /** Names of keywords by their letters, by the path of a Maildir. */
  keywords: Map<string, Map<string, string>>;
  /** The index of a bag, and where the files are that it names. */
  bag: { index: Entry; root: string } | undefined;
}

/** The messages of an archive: Maildirs, mbox files, messages as files, and bags of ours. */
export async function* containerMessages(
  container: Container,
  asked: Quoting | undefined,
  found: (quoting: Quoting) => void,
): AsyncGenerator<BroughtItem> {
  const contents = await lookedThrough(container);
  const { bag } = contents;
  if (!bag) return yield* messagesIn(container, contents, undefined, asked, found);
  yield* bag.index.within(async function* (region: Region) {
    yield* messagesIn(container, contents, { index: await BagIndex.of(region), root: bag.root }, asked, found);
  });
}

async function lookedThrough(container: Container): Promise<Contents> {
  const contents: Contents = { count: 0, common: [], keywords: new Map(), bag: undefined };
  const declared = new Set<string>();
  let isFirst = true;
  for await (const entry of container.entries()) {
    contents.count++;
    const { path } = entry;
    const levels = maildirPlace(path)?.levels ?? path.split('/').slice(0, -1);
    const differs = contents.common.findIndex((level, at) => level !== levels[at]);
    if (isFirst) contents.common = levels;
    else if (differs >= 0) contents.common = contents.common.slice(0, differs);
    isFirst = false;
    if (path.endsWith('dovecot-keywords') && entry.size <= MOST_LIST && contents.keywords.size < MOST_LISTS)
      contents.keywords.set(parentOf(path), maildirKeywords((await allOf(entry)).toString('utf8')));
    if (/(^|\/)bagit\.txt$/.test(path) && declared.size < MOST_LISTS) declared.add(parentOf(path));
    const root = /^(.*?)(?:^|\/)data\/index\.jsonl$/.exec(path)?.[1];
    if (root !== undefined) contents.bag ??= { index: entry, root };
  }
  if (contents.bag && !declared.has(contents.bag.root)) contents.bag = undefined;
  return contents;
}

async function* messagesIn(
  container: Container,
  contents: Contents,
  bag: { index: BagIndex; root: string } | undefined,
  asked: Quoting | undefined,
  found: (quoting: Quoting) => void,
): AsyncGenerator<BroughtItem> {
  const data = bag && (bag.root === '' ? 'data/' : `${bag.root}/data/`);
  let count = 0;
  for await (const entry of container.entries()) {
    const before = count++;
    const within = (items: AsyncGenerator<BroughtItem>) => inEntry(items, before, contents.count);
    const own = data !== undefined && entry.path.startsWith(data) ? entry.path.slice(data.length) : undefined;
    if (bag && own !== undefined && bag.index.has(own)) {
      yield* within(orCut(entry.within((region) => bag.index.messages(own, region))));
      continue;
    }
    const message = messageFile(entry, contents);
    if (message) yield { message, done: count / contents.count };
    else if (await looksLikeMbox(entry)) {
      const folder = mboxFolder(relative(entry.path.split('/'), contents.common));
      yield* within(orCut(entry.within((region) => mboxMessages(region, folder, asked, found))));
    } else yield { message: undefined, done: count / contents.count };
  }
}

async function* inEntry(
  items: AsyncGenerator<BroughtItem>,
  before: number,
  count: number,
): AsyncGenerator<BroughtItem> {
  for await (const item of items) yield { ...item, done: (before + item.done) / count };
}

/** What of an mbox file came out of the archive is read. What is missing is missing of its last message, which says so itself, or was never there. */
async function* orCut(items: AsyncGenerator<BroughtItem>): AsyncGenerator<BroughtItem> {
  try {
    yield* items;
  } catch (error) {
    if (!(error instanceof CutOff)) throw error;
  }
}

/** A file that is a message; undefined where it is none by its name. */
function messageFile(entry: Entry, { common, keywords }: Contents): BroughtMessage | undefined {
  const { path, size, modified } = entry;
  const read = () => withMailLineEnds(entry.read());
  const maildir = maildirPlace(path);
  if (maildir) {
    const { levels, flags, letters, delivered } = maildir;
    const names = keywords.get(levels.join('/'));
    const named = letters.flatMap((letter) => names?.get(letter) ?? []);
    // Dovecot and others keep there when a message came in (INTERNALDATE).
    return {
      ...{ folder: maildirFolder(relative(levels, common)), received: modified ?? delivered, flags },
      ...{ keywords: [...maildir.keywords, ...named], size, read },
    };
  }
  if (!/\.(eml|rfc822)$/i.test(path)) return undefined;
  const folder = relative(path.split('/').slice(0, -1), common).join('/');
  return { folder, received: null, flags: null, keywords: [], size, read };
}

/** Levels without those that all have in common. */
function relative(levels: readonly string[], common: readonly string[]): string[] {
  return levels.slice(common.length);
}

/** `Work.sbd/Plans.mbox` and `Work/Plans.mbox/mbox` are both Work/Plans: programs write the one and the other. Common practice, no source. */
function mboxFolder(levels: readonly string[]): string {
  const named = levels.length > 1 && levels.at(-1)?.toLowerCase() === 'mbox' ? levels.slice(0, -1) : levels;
  return named.map((level) => level.replace(/\.(mbox|sbd|mbx)$/i, '')).join('/');
}

async function looksLikeMbox(entry: Entry): Promise<boolean> {
  if (entry.size === 0) return false;
  const pieces: Buffer[] = [];
  let octets = 0;
  try {
    for await (const piece of entry.read()) {
      pieces.push(piece);
      octets += piece.length;
      if (octets >= BEGINNING) break;
    }
  } catch (error) {
    if (!(error instanceof CutOff)) throw error;
  }
  return isMbox(Buffer.concat(pieces));
}

/** Of a file that is known to be small. */
async function allOf(entry: Entry): Promise<Buffer> {
  const pieces: Buffer[] = [];
  try {
    for await (const piece of entry.read()) pieces.push(piece);
  } catch (error) {
    if (!(error instanceof CutOff)) throw error;
  }
  return Buffer.concat(pieces);
}

function parentOf(path: string): string {
  return path.split('/').slice(0, -1).join('/');
}
