/**
 * Words by which messages say that a mailbox is full, folded: one of what is full, and one of that it is. From several languages;
 * common practice, no source. A subject that has both may be such a warning; whether it is one a person sees, and from whom, is
 * looked at afterwards.
 */
export const MAILBOX_WORDS = [
  ...['mailbox', 'mail box', 'inbox', 'mail account', 'email account', 'quota', 'storage', 'webmail'],
  ...['postfach', 'speicher', 'kontingent'],
  ...['boîte', 'boite', 'messagerie', 'stockage'],
  ...['buzón', 'buzon', 'correo', 'almacenamiento'],
  ...['casella', 'posta', 'spazio'],
  ...['postvak', 'mailopslag', 'opslag'],
  ...['skrzynk', 'pojemno'],
  ...['caixa', 'correio', 'armazenamento'],
  ...['brevlåda', 'postlåda', 'postkasse', 'lagring'],
  ...['schránk', 'postafiók', 'ящик', 'почт', 'メールボックス', '邮箱', '信箱', '郵箱'],
] as const;

export const FULL_WORDS = [
  ...['full', 'exceed', 'over quota', 'limit', 'running out', 'warning', 'almost at', 'upgrade', '% used'],
  ...['voll', 'überschritt', 'erschöpft', 'warnung', 'knapp'],
  ...['plein', 'satur', 'dépass', 'depass', 'insuffisant'],
  ...['llen', 'superad', 'agotad', 'exced'],
  ...['pien', 'esaurit', 'superat'],
  ...['bijna vol', 'is vol', 'overschr'],
  ...['pełn', 'przekrocz'],
  ...['chei', 'lotad'],
  ...['fullt', 'överskrid', 'overskred', 'täynnä'],
  ...['plná', 'megtelt', 'переполн', 'заполн', 'превыш', 'いっぱい', '上限', '已满', '已滿', '不足'],
] as const;

/** Whether a subject may say that a mailbox is full. @param folded core/text. */
export function maySayFull(folded: string): boolean {
  const has = (word: string) => folded.includes(word);
  return MAILBOX_WORDS.some(has) && FULL_WORDS.some(has);
}
