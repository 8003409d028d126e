import type { Asked, CallName, Calls, Opening, Told } from '../../workers/protocol';

/** What the worker says without being asked: something that was on its way is there, or did not come. */
type Unasked = { kind: 'ready' } | { kind: 'problem'; detail: string };

/** The worker that holds the columns of the account in view. One for all views, so that they are loaded once. */
export class ColumnsClient {
  private readonly worker = new Worker(new URL('../../workers/columns.worker.ts', import.meta.url), { type: 'module' });
  private readonly waiting = new Map<number, { resolve(result: unknown): void; reject(error: Error): void }>();
  private readonly hearers = new Set<(problem?: string) => void>();
  private next = 1;
  /** Settles when the columns are there. */
  readonly ready: Promise<{ messages: number }>;
  private refreshing: Promise<void> | undefined;
  private stale = false;

  constructor(opening: Opening) {
    this.worker.addEventListener('message', ({ data }: MessageEvent<Told | Unasked>) => this.receive(data));
    this.ready = this.call('open', opening);
    this.ready.catch(() => undefined);
  }

  call<N extends CallName>(name: N, argument: Calls[N][0]): Promise<Calls[N][1]> {
    const id = this.next++;
    return new Promise((resolve, reject) => {
      this.waiting.set(id, { resolve: resolve as (result: unknown) => void, reject });
      this.worker.postMessage({ id, name, argument } as Asked);
    });
  }

  /** Takes in what changed, one look at a time; looks asked for meanwhile become one more. */
  async refresh(): Promise<void> {
    this.stale = true;
    this.refreshing ??= (async () => {
      try {
        await this.ready;
        while (this.stale) {
          this.stale = false;
          if (await this.call('refresh', null)) this.tell();
        }
      } finally {
        this.refreshing = undefined;
      }
    })();
    return this.refreshing;
  }

  /** Calls when anything that is shown may be another: columns came in, or words were found. */
  subscribe(hearer: (problem?: string) => void): () => void {
    this.hearers.add(hearer);
    return () => this.hearers.delete(hearer);
  }

  close(): void {
    this.worker.terminate();
  }

  private receive(data: Told | Unasked): void {
    if ('kind' in data) {
      this.tell(data.kind === 'problem' ? data.detail : undefined);
      return;
    }
    const waiting = this.waiting.get(data.id);
    this.waiting.delete(data.id);
    if (data.ok) waiting?.resolve(data.result);
    else waiting?.reject(new Error(data.error));
  }

  private tell(problem?: string): void {
    for (const notify of this.hearers) notify(problem);
  }
}
