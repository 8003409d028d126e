import type { Bag as BagFolder } from '../../archive/bag';
import type { Account } from '../../store/access/accounts';
import type { Bag } from '../../store/archive/bags';
import type { Database } from '../../store/database';
import { FileIntake } from './file-intake';
import type { Intake } from './intake';
import { MailIntake } from './mail-intake';

/** How files or messages lie in a bag. */
export function intakeOf(database: Database, account: Account, bag: Bag, folder: BagFolder): Intake {
  const as = bag.form === 'mbox' ? MailIntake : FileIntake;
  return new as(database, account, bag, folder);
}
