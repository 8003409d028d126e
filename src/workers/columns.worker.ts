import { fromArrow } from '../core/columns/arrow';
import type { Columns } from '../core/columns/columns';
import { applyDifference } from '../core/columns/difference';
import { filesFromArrow } from '../core/columns/file-columns';
import { printCriteria } from '../core/criteria/print';
import type { Criteria } from '../core/criteria/tree';
import { parseSequenceSet, type Ranges } from '../core/sets/ranges';
import { FilesView } from './files-view';
import { MailboxView } from './mailbox-view';
import { Planning } from './planning';
import type { Asked, Calls, Opening, Told } from './protocol';
import { Senders } from './senders';

/** Holds the columns of one mailbox, away from the thread that draws. */

/** An answer of the API that is no success. */
class Refused extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

let opening: Opening | undefined;
let columns: Columns | undefined;
let version = '';
let trash: ReadonlySet<string> = new Set();
let sent: readonly string[] = [];
let mailbox: MailboxView | undefined;
/** Computed from the mailbox when first asked for. */
let views: { senders?: Senders; planning?: Planning } = {};
/** Ids by the key of a test that the columns can't answer. Another map for each state of the index. */
let outside = new Map<string, Ranges | 'asked'>();
let subjects: { ids?: number[] } | undefined;
/** The files, once they were asked for; those of an earlier state keep what was marked. */
let files: { view?: Promise<FilesView>; before?: FilesView } = {};

/** Before the mail server is asked again whether it has found a text. */
const AGAIN_MS = 1_000;

async function get(path: string): Promise<Response> {
  const response = await fetch(`${opening?.base}${path}`);
  if (response.ok || response.status === 304) return response;
  const problem = (await response.json().catch(() => ({}))) as { detail?: string };
  throw new Refused(response.status, problem.detail ?? `HTTP ${response.status}`);
}

/** Asks the server for what a test of words means, and says so when it is there. */
function idsOf(key: string, test: Criteria): Ranges | undefined {
  const known = outside.get(key);
  if (known !== undefined) return known === 'asked' ? undefined : known;
  outside.set(key, 'asked');
  void findIds(outside, key, test);
  return undefined;
}

async function findIds(into: typeof outside, key: string, test: Criteria): Promise<void> {
  try {
    const answer = await get(`/matches?where=${encodeURIComponent(printCriteria(test))}`);
    const { ids } = (await answer.json()) as { ids: string };
    into.set(key, ids === '' ? [] : (parseSequenceSet(ids) ?? []));
    postMessage({ kind: 'ready' });
  } catch (error) {
    if (error instanceof Refused && error.status === 503 && into === outside) {
      setTimeout(() => void findIds(into, key, test), AGAIN_MS);
      return;
    }
    // Not known is not nothing: whoever needs it next has it asked again.
    into.delete(key);
    tellProblem(error);
  }
}

function bySubject(): readonly number[] | undefined {
  if (!subjects) {
    subjects = {};
    void readSubjects(subjects);
  }
  return subjects.ids;
}

async function readSubjects(into: { ids?: number[] }): Promise<void> {
  try {
    into.ids = ((await (await get('/order?scope=mail')).json()) as { ids: number[] }).ids;
    postMessage({ kind: 'ready' });
  } catch (error) {
    tellProblem(error);
  }
}

function tellProblem(error: unknown): void {
  postMessage({ kind: 'problem', detail: error instanceof Error ? error.message : String(error) });
}

async function read(since: string | undefined): Promise<boolean> {
  const response = await get(`/columns${since === undefined ? '' : `?since=${since}`}`);
  const { columns: read, note } = fromArrow(new Uint8Array(await response.arrayBuffer()));
  const changed = version !== note.version;
  version = note.version;
  trash = new Set(note.trash);
  sent = note.sent;
  if (note.difference && columns) {
    // A version without rows: another guard, which changes what is found outside.
    if (read.length === 0 && note.gone.length === 0) return changed;
    columns = applyDifference(columns, read, note.gone);
  } else columns = read;
  return true;
}

function build(): MailboxView {
  views = {};
  return new MailboxView(columns as Columns, opening?.timeZone ?? 'UTC', trash, { idsOf, bySubject }, new Date());
}

/** The files of the state of the index that is open. */
function openFiles(): Promise<FilesView> {
  files.view ??= readFiles();
  files.view.catch(() => {
    delete files.view;
  });
  return files.view;
}

async function readFiles(): Promise<FilesView> {
  const response = await get('/files/columns');
  const read = filesFromArrow(new Uint8Array(await response.arrayBuffer()));
  const { columns: messages, timeZone } = open();
  const view = new FilesView(read, messages, timeZone, trash, { idsOf, bySubject }, new Date());
  if (files.before) view.takeMarks(files.before);
  return view;
}

/** Has the files read anew when they are asked for next. */
async function forgetFiles(): Promise<void> {
  const before = await files.view?.catch(() => undefined);
  files = before ? { before } : {};
}

function open(): MailboxView {
  if (!mailbox) throw new Error('No mailbox is open.');
  return mailbox;
}

function senders(): Senders {
  views.senders ??= new Senders(open(), sent, new Date());
  return views.senders;
}

function planning(): Planning {
  views.planning ??= new Planning(open(), new Date());
  return views.planning;
}

const calls: { [N in keyof Calls]: (argument: Calls[N][0]) => Calls[N][1] | Promise<Calls[N][1]> } = {
  async open(argument) {
    opening = argument;
    await read(undefined);
    mailbox = build();
    return { messages: columns?.length ?? 0 };
  },
  async refresh() {
    if (!(await read(version))) return false;
    outside = new Map();
    subjects = undefined;
    const next = build();
    next.takeMarks(open());
    mailbox = next;
    await forgetFiles();
    return true;
  },
  narrow: ({ where, now, list }) => open().narrow(where, new Date(now), list),
  mark: (marking) => open().mark(marking),
  rows: (window) => open().window(window),
  selector: () => open().selector(),
  thread: (id) => open().thread(id),
  measure: (request) => open().measure(request),
  rank: (request) => senders().rank(request),
  groups: (request) => senders().groups(request),
  suggest: async (request) => planning().suggest(request, (await openFiles()).files) ?? null,
  doubtful: (plan) => planning().doubtful(plan),
  narrowFiles: async ({ where, now, list, filter }) => (await openFiles()).narrow(where, new Date(now), list, filter),
  markFiles: async (marking) => (await openFiles()).mark(marking),
  fileSelector: async () => (await openFiles()).selector(),
  async fileContext(file) {
    const view = await openFiles();
    return { alike: view.alike(file), besides: view.besides(file) };
  },
  async refreshFiles() {
    await forgetFiles();
    return null;
  },
};

addEventListener('message', async ({ data }: MessageEvent<Asked>) => {
  const { id, name, argument } = data;
  let told: Told;
  try {
    const result = await (calls[name] as (argument: unknown) => unknown)(argument);
    told = { id, ok: true, result };
  } catch (error) {
    told = {
      id,
      ok: false,
      error: error instanceof Error ? error.message : String(error),
      status: error instanceof Refused ? error.status : 0,
    };
  }
  postMessage(told);
});
