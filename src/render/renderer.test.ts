import assert from 'node:assert/strict';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { after, test } from 'node:test';
import { Renderer } from './renderer';
import type { Task } from './tasks';

const folder = mkdtempSync(join(tmpdir(), 'tamsel-render-'));
after(() => rmSync(folder, { recursive: true, force: true }));

/** A process that does with each file what its first octet says. */
function program(): string {
  const path = join(folder, 'program.mjs');
  writeFileSync(
    path,
    `process.on('disconnect', () => process.exit());
     const held = [];
     process.on('message', ({ id, task }) => {
       const what = String.fromCharCode(task.octets[0]);
       if (what === 'h') for (;;);
       if (what === 'm') setInterval(() => held.push(Buffer.alloc(8 * 2 ** 20, 1)), 2);
       else if (what === 'x') process.exit(1);
       else process.send({ id, made: { kind: 'words', text: what + ' ' + Object.keys(process.env).sort().join(' ') } });
     });`,
  );
  return path;
}

const task = (what: string): Task => ({ make: 'words', octets: Buffer.from(what), type: '' });
const MIB = 2 ** 20;

test('what hangs, takes too much memory or ends the process is refused, and the next is made', async () => {
  const renderer = new Renderer(program(), { patience: 4_000, memory: 300 * MIB });
  try {
    const made = await Promise.all(['a', 'h', 'b', 'm', 'c', 'x', 'd'].map((what) => renderer.make(task(what))));
    assert.deepEqual(
      made.map((one) => (one.kind === 'words' ? one.text[0] : one.kind === 'refused' && one.reason)),
      ['a', 'too-slow', 'b', 'too-much-memory', 'c', 'damaged', 'd'],
    );
  } finally {
    renderer.close();
  }
});

test('the process knows nothing of what its parent knows', async () => {
  process.env.TAMSEL_SECRET_OF_TEST = 'x';
  const renderer = new Renderer(program());
  try {
    const made = await renderer.make(task('a'));
    assert.doesNotMatch(made.kind === 'words' ? made.text : '', /TAMSEL|DATABASE|KEY/);
  } finally {
    renderer.close();
    delete process.env.TAMSEL_SECRET_OF_TEST;
  }
});
