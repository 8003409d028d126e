import { setTimeout as sleep } from 'node:timers/promises';

/** Has somebody wait until it rings, or for a while. A ring while nobody waits is heard by who waits next. */
export class Alarm {
  private hasRung = false;
  private wakeUp: AbortController | undefined;

  ring(): void {
    this.hasRung = true;
    this.wakeUp?.abort();
  }

  /** @param ref whether the process goes on for this alone. */
  async wait(ms: number, { ref = true } = {}): Promise<void> {
    if (!this.hasRung) {
      this.wakeUp = new AbortController();
      await sleep(ms, undefined, { ref, signal: this.wakeUp.signal }).catch(() => undefined);
      this.wakeUp = undefined;
    }
    this.hasRung = false;
  }
}
