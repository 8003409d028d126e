import type { QueryClient } from '@tanstack/react-query';

/** How long events wait for others that follow at once. */
const TOGETHER_MS = 150;

/**
 * Has what is shown of an account asked for anew as events come in, however many: a scan tells of each folder, and one answer
 * may cost the server as much as all of them. What is asked already is asked again once its answer is there.
 */
export class Freshness {
  private readonly stale = new Set<string>();
  private timer: ReturnType<typeof setTimeout> | undefined;

  constructor(
    private readonly client: QueryClient,
    private readonly account: number,
  ) {}

  /** @param keys the first parts of the keys of queries. */
  lost(...keys: readonly string[]): void {
    for (const key of keys) this.stale.add(key);
    this.timer ??= setTimeout(() => this.renew(), TOGETHER_MS);
  }

  stop(): void {
    clearTimeout(this.timer);
  }

  private renew(): void {
    for (const key of this.stale) {
      const queryKey = [key, this.account];
      if (this.client.isFetching({ queryKey }) > 0) continue;
      this.stale.delete(key);
      void this.client.invalidateQueries({ queryKey });
    }
    this.timer = this.stale.size > 0 ? setTimeout(() => this.renew(), TOGETHER_MS) : undefined;
  }
}
