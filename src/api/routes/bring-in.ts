import * as v from 'valibot';
import { DiskFull } from '../../archive/disk';
import * as s from '../../contract/schemas';
import { QUOTINGS } from '../../core/brought/quoting';
import { oneLine } from '../../core/text';
import { type Bag, bagById, createBag, updateBag } from '../../store/archive/bags';
import { addBrought, broughtOf, noteReceived } from '../../store/archive/brought';
import { lockRow, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { enqueue } from '../../store/jobs';
import { octetsOf } from '../body';
import { conflict, invalid, notFound } from '../problem';
import { route } from '../route';
import { shownBag } from '../shown';

/** Octets that are sent at a time: they are held in memory until they are written. */
const MOST_AT_ONCE = 8 * 2 ** 20;

export const bringIn = route({
  method: 'POST',
  path: '/accounts/{account}/bring-in',
  summary:
    'Begins to bring in mail that was saved elsewhere: an mbox file, a Maildir as tar or ZIP, a message (.eml), messages in a ZIP archive, or a downloaded bag. Then send the octets of the file. Nothing changes in the mailbox.',
  body: v.object({
    name: v.pipe(v.string(), v.minLength(1), v.maxLength(255)),
    size: v.pipe(v.number(), v.safeInteger(), v.minValue(1)),
    label: v.optional(s.Label),
    /** The mail folder for what names none, and above those that are named. */
    folder: v.optional(v.pipe(v.string(), v.maxLength(500)), ''),
    /** How lines that begin with From are quoted in mbox files, where that is known; else it is told from the file. */
    quoting: v.optional(v.picklist(QUOTINGS)),
  }),
  status: 201,
  response: s.Bag,
  async handle({ environment: { database, archive }, account, body: { name, size, label, folder, quoting } }) {
    const free = await archive.freeOctets();
    // The file, and the bag that is made of it.
    if (free !== null && size * 2 > free)
      throw conflict(
        'disk-full',
        `The file has ${size} octets, and its mail is written beside it. The disk of the machine that Tamsel runs on has room for ${free}.`,
      );
    return transaction(database, async (client) => {
      const id = await createBag(client, account.id, {
        label: label ?? oneLine(name),
        form: 'mbox',
        place: 'here',
        folder: `brought-${new Date().toISOString().slice(0, 10)}`,
        files: [],
      });
      await addBrought(client, account.id, id, {
        name: oneLine(name),
        size,
        folder: oneLine(folder),
        asked: quoting ?? null,
      });
      const bag = (await bagById(client, account.id, id)) as Bag;
      await tell(client, account.id, 'bag', bag);
      return shownBag(bag);
    });
  },
});

export const sendOctets = route({
  method: 'POST',
  path: '/accounts/{account}/bring-in/{bag}',
  summary: `Sends octets of a file that is brought in: those from \`at\` on, at most ${MOST_AT_ONCE} at a time. \`at\` is how many are here; a bag tells it as \`brought.received\`. With the last octet the mail is read.`,
  query: v.object({ at: s.wholeNumber(0, Number.MAX_SAFE_INTEGER) }),
  takesOctets: true,
  response: s.Bag,
  async handle({ environment: { database, archive }, account, parameters, query: { at }, request }) {
    const pieces: Buffer[] = [];
    for await (const piece of octetsOf(request, MOST_AT_ONCE)) pieces.push(piece);
    const octets = Buffer.concat(pieces);
    return transaction(database, async (client) => {
      await lockRow(client, 'bag', account.id, Number(parameters.bag));
      const bag = await bagById(client, account.id, Number(parameters.bag));
      const brought = bag && (await broughtOf(client, account.id, bag.id));
      if (!bag || !brought) throw notFound();
      if (bag.state !== 'receiving')
        throw conflict('wrong-state', `Bag ${bag.id} is ${bag.state}. It takes no more octets.`);
      if (at !== brought.received)
        throw conflict('wrong-place', `${brought.received} octets are here, so the next begin at ${brought.received}.`);
      const received = at + octets.length;
      if (octets.length === 0 || received > brought.size)
        throw invalid('The file does not have these octets.', [
          { field: 'at', expected: `1 to ${brought.size - at} octets behind ${at}` },
        ]);
      await archive
        .upload(account.id, bag.folder)
        .write(at, octets)
        .catch((error: unknown) => {
          if (error instanceof DiskFull) throw conflict('disk-full', `${error.message} Make room there, and send on.`);
          throw error;
        });
      await noteReceived(client, account.id, bag.id, received);
      if (received === brought.size) {
        await updateBag(client, account.id, bag.id, { state: 'queued' });
        await enqueue(client, account.id, 'bring-in', bag.id);
      }
      const now = (await bagById(client, account.id, bag.id)) as Bag;
      await tell(client, account.id, 'bag', now);
      return shownBag(now);
    });
  },
});
