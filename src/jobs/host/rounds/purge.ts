import type { PurgeTerms } from '../../../core/host/round';
import { trashFolders, withSubfolders } from '../../../core/mailbox/folders';
import { countOf, union } from '../../../core/sets/ranges';
import { foldersOf } from '../../../store/index/folders';
import { guardedNow } from '../../../store/index/guarded';
import { amountOfLot, dropLot, insertLots } from '../../../store/plan/lots';
import { amountOfLotIn, lyingSince } from '../../../store/plan/lying';
import { fateOfLot } from '../../../store/plan/standing';
import { freeze } from '../../../store/runs/frozen';
import { createRun, handLots } from '../../../store/runs/runs';
import { begin, trashProblem } from '../../run/begin';
import { type At, askedBy, type Outcome, ready } from './at';

const DAY_MS = 86_400_000;

/** Freezes what lies in trash and junk long enough as a lot whose fate is the purge. */
export async function tryPurge(at: At, terms: PurgeTerms): Promise<Outcome> {
  const { client, account, round, now } = at;
  const folders = await foldersOf(client, account.id);
  const trouble = terms.trash ? trashProblem(folders, account, 'purge') : undefined;
  if (trouble) return { failed: trouble };
  const trash = terms.trash ? trashFolders(folders, account.settings.trashFolder).map(({ id }) => id) : [];
  // By its name alone a folder of junk is a guess, and a guess deletes nothing.
  const isTrash = new Set(trash);
  const junk = terms.junk
    ? folders
        .filter(({ role, roleBy, repeats }) => role === 'junk' && roleBy !== 'name' && !repeats)
        .flatMap(({ path }) => withSubfolders(folders, path))
        .map(({ id }) => id)
        .filter((id) => !isTrash.has(id))
    : [];
  const before = new Date(now.getTime() - terms.days * DAY_MS);
  const inTrash = await lyingSince(client, account.id, trash, before, terms.byReceipt);
  // What was delivered there lies there since it was received.
  const inJunk = await lyingSince(client, account.id, junk, before, true);
  const guarded = await guardedNow(client, account, now);
  const members = union([inTrash.members, inJunk.members]);
  const [lot = 0] = await insertLots(client, account, guarded, [
    { label: labelOf(round.id, terms), fate: 'purge', where: null, members, except: [] },
  ]);
  const held = await amountOfLot(client, account.id, lot);
  const [ofTrash, ofJunk] = [
    await amountOfLotIn(client, account.id, lot, trash),
    await amountOfLotIn(client, account.id, lot, junk),
  ];
  const tried = {
    trash: ofTrash,
    junk: ofJunk,
    kept: countOf(members) - held.messages,
    undated: terms.byReceipt ? 0 : inTrash.undated,
  };
  if (held.messages === 0) await dropLot(client, account.id, lot);
  return ready(held, { tried, ...(held.messages === 0 ? {} : { lot }) });
}

function labelOf(round: number, { days, trash, junk }: PurgeTerms): string {
  const where = trash && junk ? 'trash and junk' : trash ? 'trash' : 'junk';
  return `Round ${round}: ${where}, longer than ${days} days`;
}

/** Purges the lot. */
export async function beginPurge(at: At): Promise<Outcome> {
  const { client, vault, account, mailbox, now } = at;
  const lot = mailbox.lot === null ? undefined : await fateOfLot(client, account.id, mailbox.lot);
  if (!lot || mailbox.lot === null)
    return { failed: { kind: 'lot-gone', detail: 'Somebody dropped its lot from the plan of the mailbox.' } };
  // Somebody carried it out in the mailbox itself.
  if (lot.run !== null) return { change: { run: lot.run } };
  const id = await createRun(client, account.id, {
    action: 'purge',
    label: `Round ${at.round.id}`,
    selector: { lots: [mailbox.lot], round: at.round.id },
    fallback: null,
    askedBy: askedBy(at),
  });
  const { digest, ...asked } = await freeze(client, account, id, { lots: [mailbox.lot] }, 'all', now);
  await handLots(client, account.id, id, [mailbox.lot]);
  await begin(client, vault, account.id, id, { asked, digest });
  return { change: { run: id } };
}
