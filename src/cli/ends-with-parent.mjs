/** Loaded into each child of the command: when the command is gone, however it ended, its end of this pipe is closed. */
process.stdin.on('end', () => process.kill(process.pid, 'SIGTERM'));
process.stdin.on('error', () => process.kill(process.pid, 'SIGTERM'));
process.stdin.resume();
process.stdin.unref?.();
