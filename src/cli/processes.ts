import { type ChildProcess, spawn } from 'node:child_process';
import { closeSync, openSync } from 'node:fs';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { setTimeout as sleep } from 'node:timers/promises';

/** A child that is started again when it ends by itself. */
interface Kept {
  name: string;
  process: ChildProcess;
}

const PATIENCE_MS = 5_000;
const RESTART_MS = 1_000;

/** The processes of this command. Each writes to a log of its own; all end with `stop`. */
export class Processes {
  private readonly kept = new Map<string, Kept>();
  private stopping = false;

  constructor(
    private readonly root: string,
    private readonly logs: string,
  ) {}

  /** Starts one, and keeps it running. */
  keep(name: string, args: string[], env: NodeJS.ProcessEnv): void {
    const child = this.spawn(name, args, env, 'ignore');
    child.once('exit', () => {
      if (!this.stopping) setTimeout(() => !this.stopping && this.keep(name, args, env), RESTART_MS);
    });
  }

  /** Starts one, and gives what it says after `ready` on its first such line. */
  async ready(name: string, args: string[], env: NodeJS.ProcessEnv): Promise<unknown> {
    const child = this.spawn(name, args, env, 'pipe');
    const ended = new Promise<never>((_, reject) =>
      child.once('exit', (code) => reject(new Error(`${name} ended with ${code}; ${this.logOf(name)} says why`))),
    );
    const said = (async () => {
      if (child.stdout)
        for await (const line of createInterface(child.stdout))
          if (line.startsWith('ready ')) return JSON.parse(line.slice(6)) as unknown;
      throw new Error(`${name} said nothing`);
    })();
    ended.catch(() => undefined);
    return Promise.race([said, ended]);
  }

  async stop(): Promise<void> {
    this.stopping = true;
    const living = [...this.kept.values()].filter(
      ({ process }) => process.exitCode === null && process.signalCode === null,
    );
    await Promise.all(
      living.map(async ({ process }) => {
        const gone = new Promise((resolve) => process.once('exit', resolve));
        process.kill('SIGTERM');
        const waited = await Promise.race([gone.then(() => true), sleep(PATIENCE_MS, false, { ref: false })]);
        if (!waited) process.kill('SIGKILL');
        await gone;
      }),
    );
  }

  private spawn(name: string, args: string[], env: NodeJS.ProcessEnv, stdout: 'ignore' | 'pipe'): ChildProcess {
    const log = openSync(this.logOf(name), 'a', 0o600);
    // A group of its own: Ctrl-C reaches this command alone, which then ends them in order.
    const process = spawn(globalThis.process.execPath, args, {
      cwd: this.root,
      env,
      detached: true,
      stdio: ['ignore', stdout === 'pipe' ? 'pipe' : log, log],
    });
    closeSync(log);
    this.kept.set(name, { name, process });
    return process;
  }

  private logOf(name: string): string {
    return join(this.logs, `${name}.log`);
  }
}
