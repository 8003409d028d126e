import { type ChildProcess, fork } from 'node:child_process';
import { readFile } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import type { Made, Refusal, Task, Told } from './tasks';

/** Milliseconds that one file may take. */
const PATIENCE_MS = 10_000;
/** Octets of memory that the process may hold, and how often it is looked at. */
const MAX_MEMORY = 700 * 2 ** 20;
const LOOKED_AT_MS = 50;
/** Milliseconds for which a process is kept that has nothing to do. */
const IDLE_MS = 30_000;
/** Files after which a process is replaced, whatever its libraries kept. */
const MOST_FILES = 2_000;

interface Waiting {
  task: Task;
  done(made: Made): void;
}

/**
 * Makes pictures and texts of files in a process that can be killed at any time: with limits on time and memory, one file after
 * the other. What ends the process is refused, and the next file gets a new one.
 */
export class Renderer {
  private readonly waiting: Waiting[] = [];
  private child: ChildProcess | undefined;
  private files = 0;
  private isBusy = false;
  private next = 1;
  private idle: NodeJS.Timeout | undefined;

  /** @param program the built file of the process. */
  constructor(
    private readonly program: string,
    private readonly limits = { patience: PATIENCE_MS, memory: MAX_MEMORY },
  ) {}

  make(task: Task): Promise<Made> {
    return new Promise((done) => {
      this.waiting.push({ task, done });
      void this.work();
    });
  }

  /** Ends the process. */
  close(): void {
    clearTimeout(this.idle);
    this.child?.kill('SIGKILL');
    this.child = undefined;
  }

  private async work(): Promise<void> {
    if (this.isBusy) return;
    this.isBusy = true;
    clearTimeout(this.idle);
    for (let one = this.waiting.shift(); one; one = this.waiting.shift())
      // What can't be asked at all is refused too, and the next is asked.
      one.done(await this.ask(one.task).catch((): Made => ({ kind: 'refused', reason: 'damaged' })));
    this.isBusy = false;
    this.idle = setTimeout(() => this.close(), IDLE_MS).unref();
  }

  private async ask(task: Task): Promise<Made> {
    const child = this.started();
    const id = this.next++;
    let watch: NodeJS.Timeout | undefined;
    let why: Refusal = 'damaged';
    const kill = (reason: Refusal) => {
      why = reason;
      child.kill('SIGKILL');
    };
    const limit = setTimeout(kill, this.limits.patience, 'too-slow');
    watch = setInterval(async () => {
      if ((await memoryOf(child.pid)) > this.limits.memory) kill('too-much-memory');
    }, LOOKED_AT_MS);
    try {
      return await new Promise<Made>((told) => {
        const ended = () => {
          if (this.child === child) this.child = undefined;
          told({ kind: 'refused', reason: why });
        };
        child.once('exit', ended);
        // One that could not be started has no exit.
        child.once('error', ended);
        child.on('message', (answer: Told) => {
          if (answer.id !== id) return;
          child.off('exit', ended);
          child.off('error', ended);
          told(answer.made);
        });
        // A process that has just ended can't be told anything; its end is what is answered.
        child.send({ id, task }, () => undefined);
      });
    } finally {
      clearTimeout(limit);
      clearInterval(watch);
      child.removeAllListeners('message');
    }
  }

  private started(): ChildProcess {
    if (this.child && (this.child.exitCode !== null || this.child.signalCode !== null || this.files >= MOST_FILES))
      this.close();
    if (!this.child) {
      this.files = 0;
      this.child = fork(this.program, [], {
        serialization: 'advanced',
        // What it does not know it can't give away.
        env: { PATH: process.env.PATH ?? '', MALLOC_ARENA_MAX: '2' },
        execArgv: ['--max-old-space-size=256'],
        stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
      });
      this.child.on('error', () => undefined);
      this.child.unref();
      this.child.channel?.unref();
    }
    this.files++;
    return this.child;
  }
}

/** Octets of memory of a process that are in use (proc(5), `statm`, in pages of 4 KiB); 0 where it is gone. */
async function memoryOf(pid: number | undefined): Promise<number> {
  const text = await readFile(`/proc/${pid}/statm`, 'latin1').catch(() => '');
  return Number(text.split(' ')[1] ?? 0) * 4096;
}

/** Where the process of a program is built (astro.config.ts). */
export function renderProgram(): string {
  return join(dirname(process.argv[1] as string), '../worker/render.mjs');
}
