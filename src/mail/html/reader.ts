import { dirname, join } from 'node:path';
import { Worker } from 'node:worker_threads';
import { MailProblem } from '../problem';
import type { Asked, Told } from './thread';

/** Milliseconds that one document may take before its thread is ended. */
const PATIENCE_MS = 3_000;

interface Waiting {
  told(text: string): void;
  failed(error: Error): void;
}

/** A thread that turns HTML into text, so that no document, however it was made, holds up anybody but who asked for it. */
class Reader {
  private readonly waiting = new Map<number, Waiting>();
  private thread: Worker | undefined;
  private next = 1;

  /** @param program the built file of the thread. */
  constructor(private readonly program: string) {}

  /** @throws MailProblem where a document takes too long. */
  async read(html: string): Promise<string> {
    const id = this.next++;
    const thread = this.started();
    let limit: NodeJS.Timeout | undefined;
    try {
      return await new Promise<string>((told, failed) => {
        this.waiting.set(id, { told, failed });
        limit = setTimeout(() => this.ended(thread, 'It took too long.'), PATIENCE_MS);
        thread.postMessage({ id, html } satisfies Asked);
      });
    } finally {
      clearTimeout(limit);
      this.waiting.delete(id);
      if (this.waiting.size === 0) this.thread?.unref();
    }
  }

  private started(): Worker {
    if (!this.thread) {
      // It needs nothing of this process, and loads nothing that this process was told to load.
      const thread = new Worker(this.program, {
        execArgv: [],
        env: {},
        resourceLimits: { maxOldGenerationSizeMb: 128 },
      });
      thread.on('message', ({ id, text }: Told) => this.waiting.get(id)?.told(text));
      thread.on('error', (error) => this.ended(thread, error.message));
      this.thread = thread;
    }
    this.thread.ref();
    return this.thread;
  }

  /** The document that is being read, and those behind it, are not read. */
  private ended(thread: Worker, why: string): void {
    if (this.thread !== thread) return;
    this.thread = undefined;
    void thread.terminate();
    const problem = new MailProblem('unreadable-answer', `Tamsel could not read the text of this message. ${why}`);
    for (const { failed } of this.waiting.values()) failed(problem);
  }
}

let reader: Reader | undefined;

/** The text of an HTML document, told by a thread of its own that is built beside every program (astro.config.ts). */
export function readHtml(html: string): Promise<string> {
  reader ??= new Reader(join(dirname(process.argv[1] as string), '../worker/html.mjs'));
  return reader.read(html);
}
