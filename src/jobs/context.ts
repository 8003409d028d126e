import type { ArchivePlace } from '../archive/place';
import type { Log } from '../log/log';
import type { OutboundConfig } from '../mail/outbound-config';
import type { Submission } from '../mail/submission';
import type { Renderer } from '../render/renderer';
import type { Vault } from '../store/access/vault';
import type { Database, Queryable } from '../store/database';

/** What a worker works with. */
export interface WorkContext {
  database: Database;
  vault: Vault;
  outbound: OutboundConfig;
  /** Undefined where the operator configured none: no mail is sent then. */
  submission: Submission | undefined;
  /** Where bags are on this machine. */
  archive: ArchivePlace;
  /** Makes pictures smaller. */
  renderer: Renderer;
  log: Log;
  /** Identifies this process in leases. */
  worker: string;
  leaseSeconds: number;
  /** Messages of one mailbox that an index may hold. */
  mostMessages: number;
  /** Mailboxes of one host that are measured at a time, by all workers: each takes a connection. */
  measuredPerHost: number;
}

/** How a job that is being done stands among the others. */
export interface Turn {
  /** Asks to go on although the job turned out to be large; where not, it has to give way and is taken up again later. */
  claimLarge(): boolean;
  /** Notes, in a transaction of who does it, that it got on: being taken again is no sign that it ends its workers. */
  progressed(client: Queryable): Promise<void>;
}

/** The job has to give way, since it is large and as many of that kind are being done as may be. */
export class TooLarge extends Error {}

/** Messages from which on what is done with them is a large job. */
export const LARGE = 20_000;
