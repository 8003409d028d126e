/** How a message came to be. The order is that of the numbers in which they are stored; never change it. */
export const CATEGORIES = ['letters', 'own', 'lists', 'mailings', 'automatic', 'records', 'invitations'] as const;

export type Category = (typeof CATEGORIES)[number];

/** Mail that reaches many or comes from a program: what one can do without first. */
export const BULK: readonly Category[] = ['lists', 'mailings', 'automatic'];

/**
 * What a message shows of how it came to be, as bits of one integer. Stored; never change a bit, only add.
 *
 * The registries behind them: List-* of RFC 2369 and 2919, Auto-Submitted of RFC 3834, delivery reports of RFC 3464,
 * calendar parts of RFC 6047. Precedence and Feedback-ID are common practice with no standard.
 */
export const SIGNS = {
  /** List-Post names an address: people write to the list. */
  listPost: 1 << 0,
  listId: 1 << 1,
  listUnsubscribe: 1 << 2,
  /** Precedence: bulk, list or junk. */
  bulkPrecedence: 1 << 3,
  /** Auto-Submitted other than `no`. */
  autoSubmitted: 1 << 4,
  /** A sender's token for complaints about a mailing. */
  feedbackId: 1 << 5,
  calendar: 1 << 6,
  /** The local part says that nobody reads the answers. */
  noReply: 1 << 7,
  deliveryReport: 1 << 8,
  document: 1 << 9,
  /** The subject bears the number of a transaction. */
  reference: 1 << 10,
  /** To and Cc hold the user and nobody else. */
  alone: 1 << 11,
  /** The author is the user's address. */
  bySelf: 1 << 12,
} as const;

export type Sign = keyof typeof SIGNS;

/** What is known of a message when its category is told. */
export interface Evidence {
  /** Bits of SIGNS. */
  signs: number;
  /** It lies in Sent or Drafts, or bears an address that the user writes from. */
  own: boolean;
  /** The user wrote to its author at some time. */
  written: boolean;
  /** What the user said of its sender; null where nothing. */
  corrected: Category | null;
}

/** Why a message has its category; each has a text in the catalogue. */
export type Reason = Sign | 'corrected' | 'ownFolder' | 'written' | 'noSign';

export interface Judgement {
  category: Category;
  reasons: Reason[];
}

/** Tells how a message came to be, and by which of its signs. The first rule that holds decides. */
export function judge({ signs, own, written, corrected }: Evidence): Judgement {
  const has = (...names: Sign[]) => names.filter((name) => (signs & SIGNS[name]) !== 0);
  if (corrected) return { category: corrected, reasons: ['corrected'] };
  const bySelf = has('bySelf');
  if (bySelf.length > 0 || own) return { category: 'own', reasons: bySelf.length > 0 ? bySelf : ['ownFolder'] };
  const calendar = has('calendar');
  if (calendar.length > 0) return { category: 'invitations', reasons: calendar };

  const list = has('listPost');
  if (list.length > 0) return { category: 'lists', reasons: [...list, ...has('listId')] };
  const listOnly = has('listUnsubscribe').length === 0 ? has('listId') : [];
  if (listOnly.length > 0) return { category: 'lists', reasons: listOnly };

  // Weak signs yield where the user writes to that address: then somebody reads there.
  const machine = [...has('autoSubmitted', 'deliveryReport'), ...(written ? [] : has('noReply'))];
  const mailing = [...has('listUnsubscribe'), ...(written ? [] : has('bulkPrecedence', 'feedbackId'))];
  const record = has('document', 'reference');
  if (record.length === 2 && machine.length + mailing.length > 0)
    return { category: 'records', reasons: [...record, ...machine, ...mailing] };
  if (has('autoSubmitted', 'deliveryReport').length > 0) return { category: 'automatic', reasons: machine };
  if (mailing.length > 0) return { category: 'mailings', reasons: mailing };
  if (machine.length > 0) return { category: 'automatic', reasons: machine };
  return { category: 'letters', reasons: ['noSign', ...(written ? (['written'] as const) : []), ...has('alone')] };
}

/** The number under which a category is stored. */
export function categoryNumber(category: Category): number {
  return CATEGORIES.indexOf(category);
}
