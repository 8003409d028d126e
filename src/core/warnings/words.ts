/**
 * Words by which messages say that a mailbox is full, folded: one of what is full, and one of that it is. From several languages;
 * common practice, no source. They hold no sign that means something in a regular expression.
 */
const MAILBOX_WORDS = [
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

const FULL_WORDS = [
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

/** Regular expressions, both of which a folded subject meets that may say so; for PostgreSQL as for JavaScript. */
export const SAYS_FULL = [MAILBOX_WORDS.join('|'), FULL_WORDS.join('|')] as const;
