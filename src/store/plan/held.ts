import { FATES_OF_FILES } from '../../core/plan/fates';

/** What of a lot is to be carried out: neither excepted by hand nor kept by a guard. */
export const HELD = '(members - excepted - guarded)';

/** Of a lot of files in a file space. */
export const HELD_FILES = '(space_files - excepted)';

/** Whether a lot leaves its messages, but for files. */
export const IS_OF_FILES = `fate in (${FATES_OF_FILES.map((fate) => `'${fate}'`).join(', ')})`;
