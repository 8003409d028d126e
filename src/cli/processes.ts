import { type ChildProcess, spawn } from 'node:child_process';
import { closeSync, openSync, readFileSync, renameSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { setTimeout as sleep } from 'node:timers/promises';
import { EXIT, Stop } from './exits';

const PATIENCE_MS = 5_000;
/** Before a child that ended is started again: at first, and at most. */
const RESTART_MS = 1_000;
const MAX_RESTART_MS = 60_000;
/** One that ends sooner has not begun to work. */
const TOO_SOON_MS = 5_000;
const MAX_EARLY_POLLS = 3;
/** Octets of a log from which on the next start begins a new one and keeps the old one beside it. */
const MAX_LOG_OCTETS = 20 * 2 ** 20;

/** The processes of this command. Each writes to a log of its own; all end with `stop`, and when this process is gone. */
export class Processes {
  private readonly kept = new Map<string, ChildProcess>();
  private stopping = false;
  private fail: (error: Stop) => void = () => {};
  /** Rejects when a child does not begin to work, however often it is started. */
  readonly failed = new Promise<never>((_, reject) => {
    this.fail = reject;
  });

  constructor(
    private readonly root: string,
    private readonly logs: string,
  ) {
    this.failed.catch(() => undefined);
  }

  /** Starts one, and keeps it running. */
  keep(name: string, args: string[], env: NodeJS.ProcessEnv, tooSoon = 0): void {
    const started = Date.now();
    const child = this.spawn(name, args, env, 'ignore');
    child.once('exit', () => {
      if (this.stopping) return;
      const again = Date.now() - started < TOO_SOON_MS ? tooSoon + 1 : 0;
      if (again >= MAX_EARLY_POLLS)
        this.fail(
          new Stop(
            EXIT.failed,
            `The ${name} ended ${again} times at once; ${this.logOf(name)} says why: ${this.lastWords(name)}`,
          ),
        );
      const wait = Math.min(MAX_RESTART_MS, RESTART_MS * 2 ** Math.max(0, again - 1));
      setTimeout(() => !this.stopping && this.keep(name, args, env, again), wait).unref();
    });
  }

  /** Starts one, and gives what it says after `ready` on its first such line. */
  async ready(name: string, args: string[], env: NodeJS.ProcessEnv): Promise<unknown> {
    const child = this.spawn(name, args, env, 'pipe');
    const ended = new Promise<never>((_, reject) =>
      child.once('exit', () =>
        reject(new Stop(EXIT.failed, `The ${name} ended; ${this.logOf(name)} says why: ${this.lastWords(name)}`)),
      ),
    );
    const said = (async () => {
      if (child.stdout)
        for await (const line of createInterface(child.stdout))
          if (line.startsWith('ready ')) return JSON.parse(line.slice(6)) as unknown;
      return ended;
    })();
    ended.catch(() => undefined);
    return Promise.race([said, ended]);
  }

  async stop(): Promise<void> {
    this.stopping = true;
    const living = [...this.kept.values()].filter(
      ({ exitCode, signalCode }) => exitCode === null && signalCode === null,
    );
    await Promise.all(
      living.map(async (process) => {
        const gone = new Promise((resolve) => process.once('exit', resolve));
        process.kill('SIGTERM');
        const waited = await Promise.race([gone.then(() => true), sleep(PATIENCE_MS, false, { ref: false })]);
        if (!waited) process.kill('SIGKILL');
        await gone;
      }),
    );
  }

  private spawn(name: string, args: string[], env: NodeJS.ProcessEnv, stdout: 'ignore' | 'pipe'): ChildProcess {
    const path = this.logOf(name);
    if ((statSync(path, { throwIfNoEntry: false })?.size ?? 0) > MAX_LOG_OCTETS) renameSync(path, `${path}.1`);
    const log = openSync(path, 'a', 0o600);
    // A group of its own: Ctrl-C reaches this command alone, which then ends them in order.
    const process = spawn(
      globalThis.process.execPath,
      ['--import', join(this.root, 'src/cli/ends-with-parent.mjs'), ...args],
      { cwd: this.root, env, detached: true, stdio: ['pipe', stdout === 'pipe' ? 'pipe' : log, log] },
    );
    process.stdin?.on('error', () => undefined);
    closeSync(log);
    this.kept.set(name, process);
    return process;
  }

  private logOf(name: string): string {
    return join(this.logs, `${name}.log`);
  }

  /** The last line of a log that says something. */
  private lastWords(name: string): string {
    const lines = readFileSync(this.logOf(name), 'utf8').trim().split('\n');
    return (lines.findLast((line) => /error/i.test(line)) ?? lines.at(-1) ?? '').slice(0, 300);
  }
}
