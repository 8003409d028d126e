import { FATES_OF_FILES } from '../../core/plan/fates';

/** What of a lot is to be carried out: neither excepted by hand nor kept by a guard. */
export const HELD = '(members - excepted - guarded)';

/** Whether a lot leaves its messages, but for files. */
export const IS_OF_FILES = `fate in (${FATES_OF_FILES.map((fate) => `'${fate}'`).join(', ')})`;
