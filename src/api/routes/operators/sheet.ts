import * as v from 'valibot';
import * as clock from '../../../clock/clock';
import * as h from '../../../contract/host';
import { MAILBOX_COLUMNS, type MailboxLine, readMailboxSheet } from '../../../core/host/sheet';
import { writeSheetLines } from '../../../core/sheets/write';
import { transaction } from '../../../store/database';
import { addMailboxes, placeKey } from '../../../store/host/mailboxes';
import { askToMeasure } from '../../../store/host/measurements';
import type { Operator } from '../../../store/host/operators';
import { shownMailboxes } from '../../host';
import { Problem } from '../../problem';
import { route } from '../../route';
import { normalised } from '../../sign-in';
import { wantRoom } from './mailboxes';

const USUAL_PORT = 993;

export const readMailboxList = route({
  method: 'POST',
  path: '/operators/{operator}/sheet',
  session: true,
  large: true,
  summary:
    'Reads a sheet of mailboxes: CSV with the columns address, server, limit and note. It reports what is wrong, and adds the mailboxes only with `apply` and without issues. Each is then measured; the server says whether the operator may.',
  body: v.object({ sheet: v.string(), apply: v.optional(v.boolean(), false) }),
  response: h.MailboxSheetReading,
  async handle(context) {
    const { environment, operator, body } = context;
    const { mailboxes, issues } = readMailboxSheet(body.sheet, environment.limits.mailboxesOfOperator);
    const placed: { line: MailboxLine; place: ReturnType<typeof normalised> }[] = [];
    for (const line of mailboxes)
      try {
        placed.push({ line, place: placeOf(line, operator) });
      } catch (error) {
        if (!(error instanceof Problem)) throw error;
        issues.push({ line: line.line, note: 'server-unreadable', cell: line.server?.host ?? '' });
      }
    const twice = new Set<string>();
    for (const { line, place } of placed) {
      if (twice.has(placeKey(place))) issues.push({ line: line.line, note: 'twice', cell: line.address });
      twice.add(placeKey(place));
    }
    issues.sort((a, b) => a.line - b.line);
    const there = new Set((await wantRoom(context, operator, 0)).map(placeKey));
    const fresh = placed.filter(({ place }) => !there.has(placeKey(place)));
    let added: number | null = null;
    if (body.apply && issues.length === 0) {
      await wantRoom(context, operator, fresh.length);
      added = await transaction(environment.database, async (client) => {
        const rows = fresh.map(({ line: { bytes, messages, note }, place }) => ({ ...place, bytes, messages, note }));
        const ids = await addMailboxes(client, operator.id, rows, clock.now());
        await askToMeasure(client, operator, clock.now(), ids);
        return ids.length;
      });
    }
    return {
      mailboxes: placed.map(({ line: { line, bytes, messages, note }, place }) => ({
        ...{ line, bytes, messages, note, user: place.user, host: place.host, port: place.port },
        there: there.has(placeKey(place)),
        needsPassword: place.host !== operator.host || place.port !== operator.port,
      })),
      issues,
      added,
    };
  },
});

/** @throws Problem where the name of the server is none. */
function placeOf({ address, server }: MailboxLine, operator: Operator) {
  const { host, port, security } = operator;
  if (!server) return normalised({ host, port, security, user: address });
  const isOwn = server.host.toLowerCase() === host && (server.port ?? port) === port;
  return normalised({
    host: server.host,
    port: isOwn ? port : (server.port ?? USUAL_PORT),
    security: isOwn ? security : 'tls',
    user: address,
  });
}

/** Columns that the sheet has besides those that it can be read with again. */
const FIGURES = [
  ...[
    'used',
    'limit in use',
    'messages',
    'message limit',
    'not mail',
    'trash',
    'trash messages',
    'junk',
    'junk messages',
  ],
  ...[
    'unread',
    'target',
    'must go',
    'messages must go',
    'grown',
    'messages grown',
    'in days',
    'full on',
    'full by',
    'states',
    'measured',
    'problem',
  ],
] as const;

export const downloadMailboxes = route({
  method: 'GET',
  formats: ['text/csv'],
  path: '/operators/{operator}/sheet',
  session: true,
  summary:
    'Returns the mailboxes as CSV (RFC 4180) with every figure; sizes are octets. The first four columns can be read as a sheet of mailboxes again.',
  async handle({ environment: { database }, operator, identity }) {
    const mailboxes = await shownMailboxes(database, operator, identity?.accounts ?? []);
    const cell = (value: number | string | null | undefined) => `${value ?? ''}`;
    const lines = mailboxes.map(({ user, host, port, note, stated, measured, grown, full, states, problem }) => {
      const limits = [
        ...(stated.bytes === null ? [] : [`${stated.bytes} B`]),
        ...(stated.messages === null ? [] : [`${stated.messages} messages`]),
      ];
      return [
        ...[user, `${host.includes(':') ? `[${host}]` : host}:${port}`, limits.join(' and '), note],
        ...[measured?.bytes?.used, measured?.bytes?.limit, measured?.messages.used, measured?.messages.limit].map(cell),
        ...[measured?.notMail, measured?.trash.bytes, measured?.trash.messages].map(cell),
        ...[measured?.junk.bytes, measured?.junk.messages, measured?.unseen, stated.target].map(cell),
        ...[measured?.excess.bytes, measured?.excess.messages, grown?.bytes, grown?.messages, grown?.days].map(cell),
        ...[full?.at.slice(0, 10), full?.by, states.join(' '), measured?.at, problem?.detail].map(cell),
      ];
    });
    return new Response(writeSheetLines([[...MAILBOX_COLUMNS, ...FIGURES], ...lines]), {
      headers: {
        'content-type': 'text/csv; charset=utf-8; header=present',
        'content-disposition': 'attachment; filename="mailboxes.csv"',
      },
    });
  },
});
