import { isMainThread } from 'node:worker_threads';

/**
 * Loaded into each program of the command: when the command is gone, however it ended, its end of this pipe is closed. A thread that
 * loads it too has a standard input of its own, which says nothing of the command.
 */
if (isMainThread) {
  process.stdin.on('end', () => process.kill(process.pid, 'SIGTERM'));
  process.stdin.on('error', () => process.kill(process.pid, 'SIGTERM'));
  process.stdin.resume();
  process.stdin.unref?.();
}
