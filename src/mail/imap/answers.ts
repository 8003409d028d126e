import { numbersOf, parseSequenceSet } from '../../core/sets/ranges';
import { MailProblem } from '../problem';
import { readInternalDate } from './fetch/dates';

/** An answer as imapflow's parser leaves it. */
export interface RawAnswer {
  attributes?: { value?: string; section?: { value?: string }[] }[];
}

/** Reads COPYUID (RFC 4315 §3) from a tagged or untagged OK; undefined where it is not there or can't be trusted. */
export function copyUid(answer: RawAnswer): { uidValidity: number; uids: Map<number, number> } | undefined {
  const section = answer.attributes?.[0]?.section;
  if (section?.[0]?.value?.toUpperCase() !== 'COPYUID') return undefined;
  const from = uidsInOrder(section[2]?.value);
  const to = uidsInOrder(section[3]?.value);
  if (!from || !to || from.length !== to.length) return undefined;
  return {
    uidValidity: Number(section[1]?.value),
    uids: new Map(from.map((uid, index) => [uid, to[index] as number])),
  };
}

/** Reads one message of UID FETCH (UID SAVEDATE) (RFC 8514 §4.3); undefined where it says no date. */
export function savedAt(answer: RawAnswer): [uid: number, at: Date] | undefined {
  const items = (answer.attributes ?? []).flatMap((item) =>
    Array.isArray(item) ? (item as { value?: string }[]) : [],
  );
  const after = (name: string) => items[items.findIndex((item) => item.value?.toUpperCase() === name) + 1]?.value;
  const [uid, date] = [Number(after('UID')), after('SAVEDATE')];
  const at = date && /^[ \d]\d-/.test(date) ? readInternalDate(date) : undefined;
  return at && at.getTime() > 0 && uid > 0 ? [uid, at] : undefined;
}

/** A uid-set in the order it is written, which COPYUID pairs by. */
function uidsInOrder(text: string | undefined): number[] | undefined {
  const uids: number[] = [];
  for (const part of (text ?? '').split(',')) {
    const range = parseSequenceSet(part);
    if (!range) return undefined;
    uids.push(...numbersOf(range));
  }
  return uids;
}

/** Reads the UIDs of SEARCH, or of ALL in ESEARCH (RFC 4731 §3.1). */
export function foundUids(answer: RawAnswer): number[] {
  const values = (answer.attributes ?? []).map(({ value }) => value);
  const all = values.findIndex((value) => value?.toUpperCase() === 'ALL');
  if (all >= 0) return uidsInOrder(values[all + 1]) ?? [];
  return values.map(Number).filter((uid) => Number.isSafeInteger(uid) && uid > 0);
}

/** Reads QUOTA (RFC 9208 §5.1): the root, and its STORAGE in octets. */
export function quotaAnswer(answer: RawAnswer): { name: string; used: number | null; limit: number | null } {
  const [root, resources] = answer.attributes ?? [];
  const values = (Array.isArray(resources) ? resources : []).map((item: { value?: string }) => item.value ?? '');
  const storage = values.findIndex((value) => value.toUpperCase() === 'STORAGE');
  const octets = (at: number) => (storage >= 0 && /^\d+$/.test(values[at] ?? '') ? Number(values[at]) * 1024 : null);
  return { name: root?.value ?? '', used: octets(storage + 1), limit: octets(storage + 2) };
}

/** What imapflow's errors carry. */
interface CommandFailure extends Error {
  code?: string;
  responseStatus?: string;
  serverResponseCode?: string;
  responseText?: string;
  response?: { attributes?: { section?: { value?: string }[] }[] } | string;
}

/** Turns a failure of imapflow into a MailProblem by response codes (RFC 5530, RFC 9208), never by its words. */
export function commandProblem(error: unknown, folder?: string): MailProblem {
  if (error instanceof MailProblem) return error;
  const failure = error as CommandFailure;
  const said = failure.responseText ? ` The server said: “${failure.responseText}”.` : '';
  const options = { cause: error };
  if (!failure.responseStatus)
    return new MailProblem('connection-lost', 'The connection to the mail server was lost.', options);
  const section =
    typeof failure.response === 'object' ? failure.response.attributes?.[0]?.section?.[0]?.value : undefined;
  return problemOf((failure.serverResponseCode ?? section ?? '').toUpperCase(), said, folder, options);
}

/** The same of a tagged answer that was read by ourselves. */
export function answerProblem(status: string, code: string, words: string): MailProblem {
  return problemOf(code.toUpperCase(), words ? ` The server said: “${words}”.` : '', undefined, { cause: status });
}

function problemOf(code: string, said: string, folder: string | undefined, options: ErrorOptions): MailProblem {
  switch (code) {
    case 'OVERQUOTA':
      return new MailProblem('no-room', `The mailbox is full.${said}`, options);
    case 'NOPERM':
    case 'READ-ONLY':
      return new MailProblem('read-only', `The server does not allow this change.${said}`, options);
    case 'NONEXISTENT':
    case 'TRYCREATE':
      return new MailProblem(
        'folder-gone',
        `The folder${folder ? ` ${folder}` : ''} is not there any more.${said}`,
        options,
      );
    case 'UNAVAILABLE':
    case 'INUSE':
    case 'LIMIT':
    case 'SERVERBUG':
      return new MailProblem('throttled', `The server asked for patience.${said}`, options);
    default:
      if (folder) return new MailProblem('folder-gone', `The folder ${folder} can’t be opened.${said}`, options);
      return new MailProblem('command-refused', `The server refused.${said}`, options);
  }
}
