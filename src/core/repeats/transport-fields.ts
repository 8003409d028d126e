/**
 * Header fields that are added on the way, so that two copies of one message may differ in them; with the reason of each. A name
 * that ends in `-` stands for all that begin with it.
 */
export const TRANSPORT_FIELDS: Readonly<Record<string, string>> = {
  received: 'Each server on the way adds one (RFC 5321 §4.4).',
  'return-path': 'The last server writes down who sent it on (RFC 5321 §4.4).',
  'delivered-to': 'Servers note to which mailbox they brought it (RFC 9228).',
  'envelope-to': 'Servers note for whom it was (common practice).',
  'x-original-to': 'Servers note for whom it was before they turned the address into another (common practice).',
  'x-envelope-': 'Servers note for whom and by whom it was (common practice).',
  'authentication-results': 'The receiving server writes down what it checked (RFC 8601 §2).',
  'received-spf': 'The receiving server writes down what it checked (RFC 7208 §9.1).',
  'dkim-signature': 'The sending server signs it, which the copy among the sent mail lacks (RFC 6376).',
  'arc-': 'Servers on the way pass on what they checked (RFC 8617).',
  'x-spam-': 'Filters write down what they think of it (common practice).',
  'x-virus-': 'Filters write down what they think of it (common practice).',
  status: 'Programs that keep mail in one file write down there whether it was read (common practice).',
  'x-status': 'Programs that keep mail in one file write down its flags there (common practice).',
  'x-keywords': 'Programs that keep mail in one file write down its keywords there (common practice).',
  'x-uid': 'Servers that keep mail in one file write down its number there (common practice).',
  'x-uidl': 'Servers that keep mail in one file write down its number there (common practice).',
  'x-imap': 'Servers that keep mail in one file write down the state of the folder there (common practice).',
  'content-length': 'Programs that keep mail in one file write down its length there (common practice).',
  lines: 'Programs that keep mail in one file write down its length there (common practice).',
};

const PREFIXES = Object.keys(TRANSPORT_FIELDS).filter((name) => name.endsWith('-'));

/** @param name in lower case. */
export function isTransportField(name: string): boolean {
  return Object.hasOwn(TRANSPORT_FIELDS, name) || PREFIXES.some((prefix) => name.startsWith(prefix));
}
