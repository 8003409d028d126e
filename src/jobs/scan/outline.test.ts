import assert from 'node:assert/strict';
import { test } from 'node:test';
import { MailProblem } from '../../mail/problem';
import type { MailServer, Outline } from '../../mail/server';
import { OutlinePass } from './outline';

test('each message counts once, though a connection is lost in between and a server says things twice', async () => {
  const outline = (uid: number): Outline => ({
    uid,
    size: uid === 3 ? 2 * 2 ** 20 : 10,
    received: new Date(uid * 1000),
    flags: 0,
    from: { name: 'Pip', address: 'pip@ferryline.example' },
  });
  const losing: Pick<MailServer, 'outlines'> = {
    async *outlines() {
      yield [1, 2, 2, 77].map(outline);
      throw new MailProblem('connection-lost', 'It was lost.');
    },
  };
  const sound: Pick<MailServer, 'outlines'> = {
    async *outlines(uids) {
      assert.deepEqual(uids, [[3, 4]]);
      yield [3, 4].map(outline);
    },
  };
  const pass = new OutlinePass();
  const task = { uids: [[1, 4] as const] };
  const told = async () => undefined;
  await assert.rejects(pass.read(losing, 1, task, true, told), MailProblem);
  await pass.read(sound, 1, task, true, told);
  assert.deepEqual([pass.sums.messages, pass.sums.bytes, pass.bigOf(1)], [4, 30 + 2 * 2 ** 20, [[3, 3]]]);
  assert.deepEqual(
    pass.authors.map(({ address, messages, first, last }) => [address, messages, first, last]),
    [['pip@ferryline.example', 4, 1000, 4000]],
  );
});
