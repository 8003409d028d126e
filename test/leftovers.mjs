/**
 * Started by test/harness.ts beside each file of tests, which holds the other end of its standard input. When that file has
 * ended, however it did, what it started and left behind ends too: every process that has its mark in its environment, and its
 * temporary folders.
 */
import { readdirSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';

const mark = `TAMSEL_TEST_FILE=${process.argv[2]}`;
process.stdin.resume();
process.stdin.on('end', () => {
  // Who is asked to end may start another meanwhile.
  for (let round = 0; round < 5 && kill(); round++);
  for (const name of readdirSync(tmpdir()))
    if (name.startsWith(`tamsel-test-${process.argv[2]}-`))
      rmSync(join(tmpdir(), name), { recursive: true, force: true });
  process.exit();
});

function kill() {
  const own = readdirSync('/proc').filter((pid) => /^\d+$/.test(pid) && Number(pid) !== process.pid && bears(pid));
  for (const pid of own) {
    try {
      process.kill(Number(pid), 'SIGKILL');
    } catch {
      // It has ended by itself.
    }
  }
  return own.length > 0;
}

function bears(pid) {
  try {
    return readFileSync(`/proc/${pid}/environ`, 'latin1').split('\0').includes(mark);
  } catch {
    return false;
  }
}
