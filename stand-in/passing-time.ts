import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import type { LeavingServer } from './leaving';
import { type Mailbox, OverQuota } from './mailbox/mailbox';
import type { Scenario } from './scenario/mailbox';

const DAY = 86_400;
const YEAR = 365 * DAY;

/** Years in which as many files come as there are at the start. */
const FILES_DOUBLE = 10;

/** What came while time was moved on. */
export interface Delivered {
  /** Days by which the clock is ahead of the machine's. */
  ahead: number;
  messages: number;
  bytes: number;
  /** When a message found no room, seconds since 1970: the mailbox was full then. Null while all found it. */
  fullAt: number | null;
}

/**
 * Moves the demo's time on. The mail of the scenario's last year comes again in each year after it, at the same time of the year,
 * but for that of senders who were asked to stop and heard it. Files come too, and share the limit.
 */
export class PassingTime {
  private ahead = 0;
  /** Of messages that came; begins anew with each start, so the time of that is in it too. */
  private serial = Date.now() * 1_000;

  /** @param file where whoever goes by the demo's clock reads the seconds by which it is ahead (src/clock). */
  constructor(
    private readonly scenario: Scenario,
    private readonly mailbox: Mailbox,
    private readonly leaving: Pick<LeavingServer, 'left'> | undefined,
    private readonly file: string | undefined,
    /** Adds a file of so many octets, where what is not mail is a file space. */
    private readonly grow?: (octets: number) => void,
  ) {
    if (file && existsSync(file)) this.ahead = Number(readFileSync(file, 'utf8')) || 0;
    // A file space keeps what came.
    if (!grow) this.addFiles(this.ahead);
  }

  moveOn(days: number): Delivered {
    if (!Number.isFinite(days) || days < 0 || days > 3_650) throw new Error('days from 0 to 3650');
    const from = Date.now() / 1000 + this.ahead;
    const to = from + days * DAY;
    this.ahead += days * DAY;
    if (this.file) writeFileSync(this.file, `${this.ahead}\n`);
    const end = Math.max(...this.scenario.messages.map(({ received }) => received));
    const coming = this.scenario.messages
      .filter(({ received, folder }) => received > end - YEAR && folder !== 'Trash')
      .flatMap((message) => {
        // The years are counted up to the first in which it comes within the time.
        const year = Math.max(1, Math.ceil((from - message.received) / YEAR));
        const times: number[] = [];
        for (let at = message.received + year * YEAR; at <= to; at += YEAR) if (at > from) times.push(at);
        return times.map((at) => ({ message, at }));
      })
      .sort((a, b) => a.at - b.at);
    const delivered: Delivered = { ahead: this.ahead / DAY, messages: 0, bytes: 0, fullAt: null };
    for (const { message, at } of coming) {
      const octets = this.renewed(message.item.write(), at);
      if (this.hasLeft(octets)) continue;
      const folder = this.mailbox.folder(message.folder);
      if (!folder) continue;
      try {
        this.mailbox.append(folder, octets, Math.floor(at), message.seen ? ['\\Seen'] : []);
      } catch (error) {
        if (!(error instanceof OverQuota)) throw error;
        delivered.fullAt ??= at;
        continue;
      }
      delivered.messages++;
      delivered.bytes += octets.length;
    }
    this.addFiles(days * DAY);
    return delivered;
  }

  private addFiles(seconds: number): void {
    const octets = Math.round((this.scenario.notMail * seconds) / (FILES_DOUBLE * YEAR));
    const room = this.mailbox.limit - this.mailbox.used();
    if (this.grow) this.grow(Math.max(0, Math.min(octets, room)));
    else this.mailbox.addFiles(octets);
  }

  /** The same message as another one: with a date and an identifier of its own. */
  private renewed(octets: Buffer, at: number): Buffer {
    const end = octets.indexOf('\r\n\r\n');
    const head = octets
      .subarray(0, end)
      .toString('latin1')
      .replace(/^Date:.*$/m, `Date: ${new Date(at * 1000).toUTCString().replace('GMT', '+0000')}`)
      .replace(/^Message-ID: *</im, `Message-ID: <${++this.serial}.`);
    return Buffer.concat([Buffer.from(head, 'latin1'), octets.subarray(end)]);
  }

  private hasLeft(octets: Buffer): boolean {
    if (!this.leaving || this.leaving.left.size === 0) return false;
    const host = /^From:[^\r]*@([\w.-]+)>?\r$/im.exec(octets.subarray(0, 8_192).toString('latin1'))?.[1];
    return host !== undefined && this.leaving.left.has(host);
  }
}
