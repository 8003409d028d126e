import { isDeepStrictEqual } from 'node:util';
import type { Vault } from '../access/vault';
import { type Queryable, rows } from '../database';
import { isWritten, type LedgerEntry } from './ledger-chain';
import type { Run } from './runs';

/** What of a run stands in its entries, by their kind. */
export const FIELDS = {
  asked: ['action', 'label', 'selector', 'asked', 'askedBy', 'createdAt'],
  ended: ['action', 'label', 'state', 'asked', 'done', 'left', 'before', 'after', 'startedAt', 'endedAt'],
} as const satisfies Record<string, readonly (keyof Run)[]>;

/** Whether a run and its entries say the same; `broken` where an entry is missing or is not what was written. */
export type Agreement = 'agrees' | 'differs' | 'broken';

/** What an entry says; nothing where it can't be read, which its code has shown already. */
export function bodyOf({ body }: Pick<LedgerEntry, 'body'>): Record<string, unknown> {
  try {
    return JSON.parse(body) as Record<string, unknown>;
  } catch {
    return {};
  }
}

/** Fields of which a run says another thing than an entry. */
export function differing(run: Run, said: Record<string, unknown>, fields: readonly (keyof Run)[]): (keyof Run)[] {
  return fields.filter((field) => field in said && !isDeepStrictEqual(plain(run[field]), plain(said[field])));
}

/** A value as JSON gives it back. */
function plain(value: unknown): unknown {
  return value === undefined ? undefined : JSON.parse(JSON.stringify(value));
}

/**
 * Runs as their entries tell of them, which nobody can write who has the database alone, and whether the tables say the same.
 *
 * @param only one run; all of the account without.
 */
export async function asWritten<R extends Run>(
  db: Queryable,
  vault: Vault,
  account: number,
  runs: readonly R[],
  only?: number,
): Promise<(R & { agreement: Agreement })[]> {
  const entries = await rows<LedgerEntry & { before: Buffer | null }>(
    db,
    `select e.seq, e.at, e.kind, e.run, e.body, e.key_id as "keyId", e.code, b.code as before
     from ledger_entry e left join ledger_entry b on b.account = e.account and b.seq = e.seq - 1
     where e.account = $1 and ($2::int is null or e.run = $2::int) order by e.seq`,
    [account, only ?? null],
  );
  const byRun = new Map<number, typeof entries>();
  for (const entry of entries) {
    const own = byRun.get(entry.run);
    if (own) own.push(entry);
    else byRun.set(entry.run, [entry]);
  }
  return runs.map((run) => {
    const own = byRun.get(run.id) ?? [];
    const isOver = run.state === 'done' || run.state === 'cancelled';
    const kinds = new Set(own.map(({ kind }) => kind));
    const isWhole = kinds.has('asked') && kinds.has('ended') === isOver;
    const isRight = own.every((entry) => isWritten(vault, account, entry, entry.before ?? Buffer.alloc(0)) === true);
    let shown: R = run;
    let differs = false;
    const tell = (said: Record<string, unknown>, fields: readonly (keyof Run)[]) => {
      differs ||= differing(run, said, fields).length > 0;
      shown = {
        ...shown,
        ...Object.fromEntries(fields.flatMap((field) => (field in said ? [[field, said[field]]] : []))),
      };
    };
    for (const entry of own) {
      const said = bodyOf(entry);
      if (entry.kind === 'settled') tell({ settled: said }, ['settled']);
      else if (entry.kind === 'asked' || entry.kind === 'ended') tell(said, FIELDS[entry.kind]);
    }
    const ended = own.find(({ kind }) => kind === 'ended');
    if (ended && !kinds.has('settled')) tell({ settled: bodyOf(ended).settled ?? null }, ['settled']);
    return { ...shown, agreement: !isWhole || !isRight ? 'broken' : differs ? 'differs' : 'agrees' };
  });
}
