import assert from 'node:assert/strict';
import { test } from 'node:test';
import { hostedMailboxes, pastOf } from './host';

const DAY = '2026-11-20';

test('thirty-nine mailboxes beside the secretary’s: each folder is what its outline says, each letter as long as it says', () => {
  const hosted = hostedMailboxes(DAY, 'small');
  assert.equal(new Set(hosted.map(({ user }) => user)).size, 39);
  for (const [number, { user, scenario }] of hosted.entries()) {
    let used = scenario.notMail;
    for (const { name, outline } of scenario.folders) {
      if (!outline) continue;
      const messages = outline.make();
      used += outline.bytes;
      assert.equal(messages.length, outline.messages, `${user} ${name}`);
      assert.equal(
        messages.reduce((sum, { item }) => sum + item.size, 0),
        outline.bytes,
        `${user} ${name}`,
      );
      assert.equal(messages.filter(({ seen }) => !seen).length, outline.unseen, `${user} ${name}`);
      const some = messages.filter((_, index) => index % Math.ceil(messages.length / 8) === number % 3);
      for (const { item } of [...some, ...messages.slice(-1)])
        if (item.size < 5_000_000) assert.equal(item.write().length, item.size, `${user} ${name}`);
    }
    assert.ok(used <= scenario.limit, `${user} holds no more than its limit`);
  }
});

test('the past ends where the present begins, and is the same every time', () => {
  const [past, again] = [pastOf(DAY, 'full'), pastOf(DAY, 'full')];
  assert.deepEqual(past, again);
  for (const days of past.values()) {
    // What may not be opened was never measured.
    if (days.length === 0) continue;
    assert.equal(days.at(-1)?.day, '2026-11-19');
    assert.ok(
      days.every(
        ({ used, limit, messages, inboxUnseen, inboxMessages }) =>
          used <= limit && messages >= 0 && inboxUnseen <= inboxMessages,
      ),
    );
  }
});
