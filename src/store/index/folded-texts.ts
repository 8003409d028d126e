import { domainOf, type EmailAddress, hostOf } from '../../core/mailbox/email-address';
import { fold } from '../../core/text';

/** Addresses of which is remembered what follows from them: few write most of a mailbox, and to few. */
const MAX_REMEMBERED = 10_000;

/** What is stored of an author or recipient besides itself. */
export interface FoldedAddress {
  host: string;
  /** The registrable domain. */
  domain: string;
  name: string;
  address: string;
  /** As a recipient in JSON, its domain not folded. */
  json: string;
}

/** What is stored of all recipients of a message. */
export interface FoldedRecipients {
  json: string;
  /** Names and addresses, a line each. */
  lines: string;
}

/** Folds what is searched in, and remembers it by author and recipient. */
export class FoldedTexts {
  private readonly byAddress = new Map<string, FoldedAddress & { of: EmailAddress }>();

  of(mailbox: EmailAddress): FoldedAddress {
    const { name, address } = mailbox;
    const known = this.byAddress.get(address);
    if (known && known.of.name === name) return known;
    const domain = domainOf(address);
    const json = JSON.stringify({ name, address, domain });
    const folded = {
      // What is remembered must not be a slice of the answer that it came in, which would stay with it.
      of: JSON.parse(json) as EmailAddress,
      host: fold(hostOf(address)),
      domain: fold(domain),
      name: fold(name),
      address: fold(address),
      json,
    };
    if (this.byAddress.size >= MAX_REMEMBERED) this.byAddress.clear();
    this.byAddress.set(folded.of.address, folded);
    return folded;
  }

  ofAll(recipients: readonly EmailAddress[]): FoldedRecipients {
    let json = '';
    let lines = '';
    for (const recipient of recipients) {
      const folded = this.of(recipient);
      json += json === '' ? folded.json : `,${folded.json}`;
      if (folded.name !== '') lines += lines === '' ? folded.name : `\n${folded.name}`;
      if (folded.address !== '') lines += lines === '' ? folded.address : `\n${folded.address}`;
    }
    return { json: `[${json}]`, lines };
  }
}

/** Texts to search in, a line each. */
export function foldedLines(texts: readonly string[]): string {
  return texts.length === 0 ? '' : texts.filter(Boolean).map(fold).join('\n');
}
