import type { Log } from './log';

const MINUTE_MS = 60_000;

/** A log of what others cause: past so many lines a minute it only counts, so nobody fills a disk by asking. */
export class LimitedLog {
  private since = 0;
  private lines = 0;

  constructor(
    private readonly log: Log,
    private readonly most = 100,
    private readonly now: () => number = Date.now,
  ) {}

  info(fields: object, message: string): void {
    const now = this.now();
    if (now - this.since >= MINUTE_MS) {
      if (this.lines > this.most) this.log.warn({ lines: this.lines - this.most }, 'lines were left out of the log');
      this.since = now;
      this.lines = 0;
    }
    if (++this.lines <= this.most) this.log.info(fields, message);
  }
}
