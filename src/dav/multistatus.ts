import { SaxesParser } from 'saxes';
import { SpaceProblem } from './problem';

/** A resource as a multistatus answer (RFC 4918 §13) tells it. What is not told, or told with a status of failure, is undefined. */
export interface Told {
  /** As the server wrote it. */
  href: string;
  /** Of the resource as a whole, where the answer gives one in place of properties. */
  status: number | undefined;
  isCollection: boolean;
  /** Octets. */
  length: number | undefined;
  type: string | undefined;
  etag: string | undefined;
  modified: Date | undefined;
  /** Octets (RFC 4331 §3, §4). */
  quotaUsed: number | undefined;
  quotaAvailable: number | undefined;
  /** Whose it is, and who has signed in (RFC 3744 §5.1; RFC 5397 §3). */
  owner: string | undefined;
  principal: string | undefined;
  /** The state from which on changes can be asked for (RFC 6578 §4). */
  syncToken: string | undefined;
  /** Reports that can be asked for (RFC 3253 §3.1.5), by their local names. */
  reports: readonly string[];
}

export type Part = { told: Told } | { syncToken: string };

const DAV = 'DAV:';
/** Elements in each other; an answer needs eight. */
const MOST_DEEP = 32;
/** Characters of one text: a path or a tag of a version is no longer. */
const MOST_TEXT = 16_384;
/** Reports of one resource. */
const MOST_REPORTS = 64;

interface Fresh extends Omit<Told, 'reports'> {
  reports: string[];
}

const nothing = (): Fresh => ({
  href: '',
  status: undefined,
  isCollection: false,
  length: undefined,
  type: undefined,
  etag: undefined,
  modified: undefined,
  quotaUsed: undefined,
  quotaAvailable: undefined,
  owner: undefined,
  principal: undefined,
  syncToken: undefined,
  reports: [],
});

/**
 * Reads a multistatus answer as it comes, and holds no more of it than one resource. A document type is refused, since entities may
 * grow without end (RFC 4918 §20.6); so is what ends before its end.
 *
 * @param mostOctets of the whole answer.
 * @throws SpaceProblem `unreadable-answer`
 */
export async function* readMultistatus(body: AsyncIterable<Uint8Array>, mostOctets: number): AsyncGenerator<Part> {
  const reading = new Reading();
  const decoder = new TextDecoder('utf-8', { fatal: true });
  let octets = 0;
  for await (const piece of body) {
    octets += piece.length;
    if (octets > mostOctets) throw unreadable('is longer than one that Tamsel reads');
    yield* reading.take(text(decoder, piece));
  }
  yield* reading.take(text(decoder, undefined));
  reading.end();
}

function text(decoder: TextDecoder, piece: Uint8Array | undefined): string {
  try {
    return piece ? decoder.decode(piece, { stream: true }) : decoder.decode();
  } catch (cause) {
    throw unreadable('is no UTF-8', cause);
  }
}

export function unreadable(why: string, cause?: unknown): SpaceProblem {
  return new SpaceProblem('unreadable-answer', `The server’s answer ${why}.`, { cause });
}

class Reading {
  private readonly parser = new SaxesParser({ xmlns: true, position: false });
  private readonly parts: Part[] = [];
  /** Where each open element is below the uppermost: local names in the namespace of DAV, others as an empty text. */
  private readonly path: string[] = [];
  private text = '';
  private resource = nothing();
  /** Properties of a propstat until its status is known, which may stand before or after them. */
  private properties = nothing();
  private propertyStatus: number | undefined;
  private hasEnded = false;

  constructor() {
    const { parser } = this;
    parser.on('error', (error) => {
      throw unreadable('is no XML', error);
    });
    parser.on('doctype', () => {
      throw unreadable('has a document type, which is refused');
    });
    parser.on('opentag', (tag) => this.open(tag));
    parser.on('closetag', () => this.close());
    parser.on('text', (more) => this.add(more));
    parser.on('cdata', (more) => this.add(more));
  }

  /** Reads on; gives what is whole. */
  *take(text: string): Generator<Part> {
    this.parser.write(text);
    yield* this.parts.splice(0);
  }

  end(): void {
    this.parser.close();
    if (!this.hasEnded) throw unreadable('is no multistatus');
  }

  private open({ uri, local }: { uri: string; local: string }): void {
    const name = uri === DAV ? local : '';
    if (this.path.length >= MOST_DEEP) throw unreadable('has elements in each other without end');
    if (this.path.length === 0 && name !== 'multistatus') throw unreadable('is no multistatus');
    const above = this.path.at(-1);
    const at = above === undefined ? '' : above === '' && this.path.length === 1 ? name : `${above}/${name}`;
    this.path.push(at);
    this.text = '';
    if (at === 'response') this.resource = nothing();
    if (at === 'response/propstat') {
      this.properties = nothing();
      this.propertyStatus = undefined;
    }
    if (at === 'response/propstat/prop/resourcetype/collection') this.properties.isCollection = true;
    const isReport = at.startsWith('response/propstat/prop/supported-report-set/supported-report/report/');
    if (isReport && this.path.length === 8 && this.properties.reports.length < MOST_REPORTS)
      this.properties.reports.push(local);
  }

  private add(more: string): void {
    if (this.text.length + more.length > MOST_TEXT) throw unreadable('has a text that is too long');
    this.text += more;
  }

  private close(): void {
    const at = this.path.pop();
    const said = this.text.trim();
    this.text = '';
    if (at === undefined || this.path.length === 0) {
      this.hasEnded = true;
      return;
    }
    if (at === 'sync-token') this.parts.push({ syncToken: said });
    else if (at === 'response') this.finish();
    else if (at === 'response/href') this.resource.href ||= said;
    else if (at === 'response/status') this.resource.status = statusIn(said);
    else if (at === 'response/propstat/status') this.propertyStatus = statusIn(said);
    else if (at === 'response/propstat') this.keepProperties();
    else if (at.startsWith(PROPERTY)) this.keep(at.slice(PROPERTY.length), said);
  }

  private keep(property: string, said: string): void {
    const { properties } = this;
    if (property === 'getcontentlength') properties.length = countIn(said);
    else if (property === 'getcontenttype') properties.type = said;
    else if (property === 'getetag') properties.etag = said;
    else if (property === 'getlastmodified') properties.modified = dateIn(said);
    else if (property === 'quota-used-bytes') properties.quotaUsed = roomIn(said);
    else if (property === 'quota-available-bytes') properties.quotaAvailable = roomIn(said);
    else if (property === 'sync-token') properties.syncToken = said;
    else if (property === 'owner/href') properties.owner = said;
    else if (property === 'current-user-principal/href') properties.principal = said;
  }

  /** Properties of another status than success are not told (RFC 4918 §9.1). */
  private keepProperties(): void {
    if (this.propertyStatus === undefined) throw unreadable('has properties without a status');
    if (this.propertyStatus < 200 || this.propertyStatus > 299) return;
    const { href, status } = this.resource;
    const before = this.resource;
    this.resource = { ...this.properties, href, status };
    for (const key of Object.keys(before) as (keyof Fresh)[])
      if (this.resource[key] === undefined) Object.assign(this.resource, { [key]: before[key] });
    this.resource.isCollection ||= before.isCollection;
    if (this.resource.reports.length === 0) this.resource.reports = before.reports;
  }

  private finish(): void {
    if (this.resource.href === '') throw unreadable('has a resource without a path');
    this.parts.push({ told: this.resource });
  }
}

const PROPERTY = 'response/propstat/prop/';

/** @throws SpaceProblem where it is no status line (RFC 9112 §4). */
function statusIn(line: string): number {
  const [, status] = /^HTTP\/\d(?:\.\d)? (\d{3})(?: |$)/.exec(line) ?? [];
  if (status === undefined) throw unreadable('has a status that is none');
  return Number(status);
}

/** A number of octets; one that is none is an error, since it would be counted as nothing. */
function countIn(said: string): number | undefined {
  if (said === '') return undefined;
  const count = /^\d{1,16}$/.test(said) ? Number(said) : Number.NaN;
  if (!Number.isSafeInteger(count)) throw unreadable('has a number that is none');
  return count;
}

/** A number of octets of a quota. Servers that have no limit say a number below zero (common practice, no source). */
function roomIn(said: string): number | undefined {
  return /^-\d+$/.test(said) ? undefined : countIn(said);
}

/** A date of HTTP (RFC 9110 §5.6.7); one that is none is unknown, since nothing is decided by it alone. */
function dateIn(said: string): Date | undefined {
  const date = new Date(said);
  return Number.isNaN(date.getTime()) ? undefined : date;
}
