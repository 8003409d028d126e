import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import fc from 'fast-check';
import { instantOfAge, instantsOfDay } from '../../src/core/criteria/instants';
import { printCriteria } from '../../src/core/criteria/print';
import type { Criteria, Operator } from '../../src/core/criteria/tree';
import { FLAG_BITS } from '../../src/core/mailbox/flags';
import { fold } from '../../src/core/text';
import { OCTETS_IN } from '../../src/core/units';
import { accountById } from '../../src/store/accounts';
import { amountOf } from '../../src/store/messages';
import { anyCriteria } from '../criteria-samples';
import { App, cleanUp, startStandIn } from '../harness';

after(cleanUp);

interface Row {
  size: number;
  received: Date;
  sent: Date | null;
  flags: number;
  folder: string;
  name: string;
  address: string;
  host: string;
  domain: string;
  list: string;
  subject: string;
  recipients: { name: string; address: string }[];
  files: { name: string; size: number }[];
}

const NOW = new Date('2026-11-25T03:00:00Z');
const ZONE = 'Pacific/Auckland';

/** What an expression means, said a second time as plainly as can be. */
function means(criteria: Criteria, row: Row): boolean {
  switch (criteria.kind) {
    case 'everything':
      return true;
    case 'any':
      return criteria.of.some((part) => means(part, row));
    case 'all':
      return criteria.of.every((part) => means(part, row));
    case 'not':
      return !means(criteria.of, row);
    case 'flag': {
      const name = criteria.name.replace(/^un/, '') as keyof typeof FLAG_BITS;
      return ((row.flags & FLAG_BITS[name]) !== 0) === !criteria.name.startsWith('un');
    }
  }
  const { field, op, value } = criteria;
  switch (value.type) {
    case 'octets':
      return compare(
        field === 'size' ? row.size : row.files.reduce((sum, { size }) => sum + size, 0),
        op,
        value.number * (value.unit ? OCTETS_IN[value.unit] : 1),
      );
    case 'count':
      return compare(row.files.length, op, value.number);
    case 'age':
      // Older means received earlier, so both sides are turned round.
      return compare(-row.received.getTime(), op, -instantOfAge(value.number, value.unit, NOW, ZONE).getTime());
    case 'day': {
      const at = (field === 'date' ? (row.sent ?? row.received) : row.received).getTime();
      const { start, end } = instantsOfDay(value.day, ZONE);
      const place = at < start.getTime() ? -1 : at >= end.getTime() ? 1 : 0;
      return compare(place, op, 0);
    }
    case 'text': {
      const wanted = fold(value.text);
      const texts = textsOf(field, row).map(fold);
      const under = field === 'under' && texts.some((text) => text === wanted || text.startsWith(`${wanted}/`));
      const holds = under || texts.some((text) => (op.endsWith('~') ? text.includes(wanted) : text === wanted));
      return holds === !op.startsWith('!');
    }
  }
}

function compare(one: number, op: Operator, other: number): boolean {
  const results: Partial<Record<Operator, boolean>> = {
    '=': one === other,
    '!=': one !== other,
    '<': one < other,
    '<=': one <= other,
    '>': one > other,
    '>=': one >= other,
  };
  return results[op] as boolean;
}

function textsOf(field: string, row: Row): string[] {
  switch (field) {
    case 'from':
      return [row.name, row.address];
    case 'to':
      return row.recipients.flatMap(({ name, address }) => [name, address]).filter(Boolean);
    case 'domain':
      return [row.domain, row.host];
    case 'list':
      return [row.list];
    case 'subject':
      return [row.subject];
    case 'file':
      return row.files.map(({ name }) => name).filter(Boolean);
    default:
      return [row.folder];
  }
}

test('a thousand random expressions give the same messages by SQL as by their plain meaning', async () => {
  const host = await startStandIn();
  const app = await App.start();
  const path = await app.signIn({ port: host.plainPort });
  await app.call('PATCH', `${path}/settings`, { timeZone: ZONE });
  await app.scanned(path);
  const account = await accountById(app.database, Number(path.split('/')[2]));
  assert.ok(account);
  const { rows } = await app.database.query(`
    select p.size, p.received, m.sent, p.flags, f.path as folder, m.from_name as name, m.from_address as address, m.from_host as host,
           m.from_domain as domain, m.list_id as list, m.subject, m.recipients, m.files
    from placement p join message m on m.account = p.account and m.id = p.message join folder f on f.account = p.account and f.id = p.folder
    where p.gone_at is null`);
  assert.equal(rows.length, host.mailbox.messageCount());
  let narrowed = 0;
  await fc.assert(
    fc.asyncProperty(anyCriteria, async (criteria) => {
      const expected = (rows as Row[]).filter((row) => means(criteria, row));
      const found = await amountOf(app.database, account, criteria, 'all', NOW);
      if (expected.length > 0 && expected.length < rows.length) narrowed++;
      assert.deepEqual(
        found,
        { messages: expected.length, bytes: expected.reduce((sum, { size }) => sum + size, 0) },
        printCriteria(criteria),
      );
    }),
    { numRuns: 1_000 },
  );
  assert.ok(narrowed > 300, `only ${narrowed} expressions told messages apart`);
});
