import type { Logger } from 'pino';
import type { Outgoing } from '../mail/outgoing';
import type { Submission } from '../mail/submission';
import type { Database } from '../store/database';
import type { Vault } from '../store/vault';

/** What a worker works with. */
export interface WorkContext {
  database: Database;
  vault: Vault;
  outgoing: Outgoing;
  /** Undefined where the operator configured none: no mail is sent then. */
  submission: Submission | undefined;
  log: Logger;
  /** Identifies this process in leases. */
  worker: string;
  leaseSeconds: number;
}
