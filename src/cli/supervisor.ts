import { type ChildProcess, spawn } from 'node:child_process';
import { closeSync, openSync, readFileSync, renameSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { setTimeout as sleep } from 'node:timers/promises';
import { type Restart, writeRestarts } from '../log/restarts';
import { EXIT, Stop } from './exits';

/** How long a program that is asked to end has before it is killed. */
const PATIENCE_MS = 5_000;
/** Before a program that ended is started again: the first time, and at most. */
const RESTART_MS = 1_000;
const MAX_RESTART_MS = 60_000;
/** A program that ran for longer than this starts again without the waits of before. */
const STEADY_MS = 60_000;
/** After so many ends, of all programs together, an instance that is not healthy yet gives up. */
const MAX_EARLY_ENDS = 3;
/** Octets of a log from which on the next start begins a new one and keeps the old one beside it. */
const MAX_LOG_OCTETS = 20 * 2 ** 20;
/** Restarts that are remembered. */
const MAX_RESTARTS = 50;

interface Watched {
  child: ChildProcess;
  /** The start that is due, while the program is not running. */
  restart?: NodeJS.Timeout;
}

/**
 * Starts programs and keeps them running. One that ends is started again after a growing wait; the others go on. Each writes to a
 * log of its own. All end with `stop`, and when this process is gone.
 */
export class Supervisor {
  /** Programs that ended by themselves, the newest last. */
  readonly restarts: Restart[] = [];
  private readonly watched = new Map<string, Watched>();
  private fail: (error: Stop) => void = () => {};
  private earlyEnds = 0;
  /** Rejects at the third end of a program. It matters only until the instance is healthy. */
  readonly failedToStart = new Promise<never>((_, reject) => {
    this.fail = reject;
  });

  /**
   * @param logs the folder of the logs.
   * @param restartsFile where the restarts are written down, for the health of the instance.
   */
  constructor(
    private readonly root: string,
    private readonly logs: string,
    private readonly restartsFile?: string,
  ) {
    this.failedToStart.catch(() => undefined);
    this.write();
  }

  /**
   * Starts a program of Node and keeps it running.
   *
   * @param args its flags of Node, its file and its arguments.
   * @param env all of its environment: it inherits nothing.
   */
  start(name: string, args: readonly string[], env: NodeJS.ProcessEnv): void {
    this.launch(name, args, env, 0);
  }

  /**
   * Starts a program as `start` does, and waits until it prints a line that begins with `ready`.
   *
   * @returns the JSON that follows on that line.
   * @throws Stop if the program ends first.
   */
  async startReady(name: string, args: readonly string[], env: NodeJS.ProcessEnv): Promise<unknown> {
    const { stdout } = this.launch(name, args, env, 0, 'pipe');
    if (stdout)
      for await (const line of createInterface(stdout))
        if (line.startsWith('ready ')) return JSON.parse(line.slice(6)) as unknown;
    throw new Stop(EXIT.failed, `The ${name} ended; ${this.logOf(name)} says why: ${this.lastWords(name)}`);
  }

  /** Ends a program for good. */
  async end(name: string, signal: NodeJS.Signals = 'SIGTERM'): Promise<void> {
    const watched = this.watched.get(name);
    if (!watched) return;
    this.watched.delete(name);
    clearTimeout(watched.restart);
    const { child } = watched;
    if (child.exitCode !== null || child.signalCode !== null) return;
    const gone = new Promise((resolve) => child.once('exit', resolve));
    child.kill(signal);
    const ended = await Promise.race([gone.then(() => true), sleep(PATIENCE_MS, false, { ref: false })]);
    if (!ended) child.kill('SIGKILL');
    await gone;
  }

  async stop(signal?: NodeJS.Signals): Promise<void> {
    await Promise.all([...this.watched.keys()].map((name) => this.end(name, signal)));
  }

  /** The process of a program, undefined while it has none. */
  pidOf(name: string): number | undefined {
    const child = this.watched.get(name)?.child;
    return child && child.exitCode === null && child.signalCode === null ? child.pid : undefined;
  }

  logOf(name: string): string {
    return join(this.logs, `${name}.log`);
  }

  private launch(
    name: string,
    args: readonly string[],
    env: NodeJS.ProcessEnv,
    ends: number,
    stdout: 'ignore' | 'pipe' = 'ignore',
  ): ChildProcess {
    const started = Date.now();
    const child = this.spawn(name, args, env, stdout);
    const watched: Watched = { child };
    this.watched.set(name, watched);
    child.once('exit', (code, signal) => {
      if (this.watched.get(name) !== watched) return;
      const again = Date.now() - started < STEADY_MS ? ends + 1 : 1;
      this.note(name, signal ? `It was ended by ${signal}.` : `It ended with code ${code}.`);
      watched.restart = setTimeout(
        () => this.launch(name, args, env, again, stdout).stdout?.resume(),
        restartWait(again),
      ).unref();
    });
    return child;
  }

  private note(name: string, why: string): void {
    this.restarts.push({ program: name, at: new Date().toISOString(), why });
    if (this.restarts.length > MAX_RESTARTS) this.restarts.shift();
    this.write();
    if (++this.earlyEnds < MAX_EARLY_ENDS) return;
    const words = `The ${name} ended again and again; ${this.logOf(name)} says why: ${this.lastWords(name)}`;
    this.fail(new Stop(EXIT.failed, words));
  }

  private write(): void {
    if (this.restartsFile) writeRestarts(this.restartsFile, this.restarts);
  }

  private spawn(
    name: string,
    args: readonly string[],
    env: NodeJS.ProcessEnv,
    stdout: 'ignore' | 'pipe',
  ): ChildProcess {
    const path = this.logOf(name);
    if ((statSync(path, { throwIfNoEntry: false })?.size ?? 0) > MAX_LOG_OCTETS) renameSync(path, `${path}.1`);
    const log = openSync(path, 'a', 0o600);
    // A group of its own: Ctrl-C reaches this command alone, which then ends them in order.
    const child = spawn(process.execPath, ['--import', join(this.root, 'src/cli/ends-with-parent.mjs'), ...args], {
      cwd: this.root,
      env,
      detached: true,
      stdio: ['pipe', stdout === 'pipe' ? 'pipe' : log, log],
    });
    child.stdin?.on('error', () => undefined);
    // A program that waits only for these would keep this process from ending.
    (child.stdin as unknown as { unref(): void }).unref();
    closeSync(log);
    return child;
  }

  /** The last line of a log that says something. */
  private lastWords(name: string): string {
    const lines = readFileSync(this.logOf(name), 'utf8').trim().split('\n');
    return (lines.findLast((line) => /error/i.test(line)) ?? lines.at(-1) ?? '').slice(0, 300);
  }
}

/** Milliseconds before a program is started again that ended so many times, one soon after the other. */
export function restartWait(ends: number): number {
  return Math.min(MAX_RESTART_MS, RESTART_MS * 2 ** (ends - 1));
}
