import { randomInt, timingSafeEqual } from 'node:crypto';
import { type Queryable, row } from '../database';
import type { Vault } from './vault';

const DIGITS = 8;
const MAX_TRIES = 5;
const GOOD_FOR_MINUTES = 60;

/** Keeps that mail is wanted at an address, until the code that is sent there was typed. Gives the code, of eight digits. */
export async function openConfirmation(
  db: Queryable,
  vault: Vault,
  account: number,
  recipient: string,
): Promise<string> {
  const code = `${randomInt(10 ** DIGITS)}`.padStart(DIGITS, '0');
  await db.query(
    `insert into mail_confirmation (account, recipient, code_hash) values ($1, $2, $3)
     on conflict (account) do update set recipient = $2, code_hash = $3, tries = 0, made_at = now()`,
    [account, recipient, hashOf(vault, account, code)],
  );
  return code;
}

/** The address that a code was sent to; undefined where it is another code, was tried too often, or came too late. */
export async function confirm(db: Queryable, vault: Vault, account: number, code: string): Promise<string | undefined> {
  // Counted before it is compared, so that nobody tries many at a time.
  const open = await row<{ recipient: string; codeHash: Buffer }>(
    db,
    `update mail_confirmation set tries = tries + 1
     where account = $1 and tries < $2 and made_at > now() - make_interval(mins => $3)
     returning recipient, code_hash as "codeHash"`,
    [account, MAX_TRIES, GOOD_FOR_MINUTES],
  );
  if (!open || !timingSafeEqual(open.codeHash, hashOf(vault, account, code))) return undefined;
  await db.query('delete from mail_confirmation where account = $1', [account]);
  return open.recipient;
}

function hashOf(vault: Vault, account: number, code: string): Buffer {
  return vault.codeOf(`mail address of account ${account}: ${code}`).code;
}
