import * as v from 'valibot';
import { noticeOfCode } from '../../jobs/notices';
import { saveSettings } from '../../store/access/accounts';
import { confirm, openConfirmation } from '../../store/access/mail-address';
import { transaction } from '../../store/database';
import { networkOf } from '../network';
import { conflict, invalid, Problem } from '../problem';
import { takeAttempt } from '../rate-limit';
import { route } from '../route';

const DAY_SECONDS = 86_400;
/** Codes within a day for one account and to one address, and from one network. */
const MAX_CODES = 5;
const MAX_PER_NETWORK = 20;

export const requestMailAddress = route({
  method: 'POST',
  path: '/accounts/{account}/mail-address',
  session: true,
  summary: 'Sends a code to an address. Tamsel sends mail there once you have confirmed the code.',
  body: v.object({ to: v.pipe(v.string(), v.email(), v.maxLength(254)) }),
  status: 202,
  response: v.object({ to: v.string() }),
  async handle({ environment, account, clientAddress, body: { to } }) {
    const { database, vault, canMail } = environment;
    if (!canMail)
      throw conflict(
        'no-submission-server',
        'This instance can’t send mail: its operator has configured no submission server.',
      );
    await takeAttempt(database, [
      { name: `code for account ${account.id}`, most: MAX_CODES, seconds: DAY_SECONDS },
      { name: `code to ${to.toLowerCase()}`, most: MAX_CODES, seconds: DAY_SECONDS },
      { name: `code from ${networkOf(clientAddress)}`, most: MAX_PER_NETWORK, seconds: DAY_SECONDS },
    ]);
    await transaction(database, async (client) => {
      const code = await openConfirmation(client, vault, account.id, to);
      if (!(await noticeOfCode(client, account.id, to, code)))
        throw new Problem(
          429,
          'too-many-mails',
          'Too many mails',
          'Too much mail was sent for this mailbox today. Try again tomorrow.',
        );
    });
    return { to };
  },
});

export const confirmMailAddress = route({
  method: 'POST',
  path: '/accounts/{account}/mail-address/code',
  session: true,
  summary: 'Confirms an address with the code sent to it. You have five tries within an hour.',
  body: v.object({ code: v.pipe(v.string(), v.trim(), v.regex(/^\d{8}$/, 'eight digits')) }),
  response: v.object({ to: v.string() }),
  async handle({ environment: { database, vault }, account, body: { code } }) {
    const to = await transaction(database, async (client) => {
      const confirmed = await confirm(client, vault, account.id, code);
      if (confirmed) await saveSettings(client, account.id, { mailTo: confirmed });
      return confirmed;
    });
    if (!to)
      throw invalid('This code is wrong or has expired. After five tries, request a new one.', [
        { field: 'code', expected: 'the code of the mail' },
      ]);
    return { to };
  },
});
