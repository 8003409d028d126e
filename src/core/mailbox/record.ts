import type { MessageFile } from '../files/file';
import type { EmailAddress } from './email-address';

/** Part of a message that could not be read; the message is kept all the same. */
export type Flaw = 'date' | 'from' | 'subject' | 'structure';

/** What is kept of a message in a folder. Texts are decoded and storable. */
export interface MessageRecord {
  uid: number;
  /** OBJECTID's EMAILID (RFC 8474), null where the server has none. */
  emailId: string | null;
  /** RFC822.SIZE, octets. */
  size: number;
  /** INTERNALDATE. */
  received: Date;
  /** Bits of ./flags. */
  flags: number;
  keywords: string[];
  messageId: string;
  inReplyTo: string;
  /** Message-IDs of References, oldest first. */
  references: string[];
  /** The Date field, null where absent or absurd. */
  sent: Date | null;
  /** The first author; null where there is none. */
  from: EmailAddress | null;
  /** To and Cc. */
  recipients: EmailAddress[];
  subject: string;
  /** The identifier between the angle brackets of List-Id (RFC 2919 §3), lower case. */
  listId: string;
  /** The fields that tell bulk from personal, by lower-case name. */
  bulkFields: Record<string, string>;
  files: MessageFile[];
  flaws: Flaw[];
}
