import { decodeModifiedUtf7, encodeModifiedUtf7 } from '../../core/mailbox/modified-utf7';

/**
 * Names of folders between the wire and people. The wire's form, an octet a character, is what a folder is known by, so that
 * one whose name keeps to no rule can be opened all the same.
 *
 * Names are in modified UTF-7 (RFC 3501 §5.1.3), since nothing else is ever enabled; but for a server that speaks IMAP4rev2
 * alone, where they are in UTF-8 (RFC 9051 §5.1).
 */
export class FolderNames {
  constructor(private readonly utf8: boolean) {}

  /** As people read it. */
  readable(wire: string): string {
    const asUtf8 = () => Buffer.from(wire, 'latin1').toString('utf8');
    return this.utf8 ? asUtf8() : (decodeModifiedUtf7(wire) ?? asUtf8());
  }

  /** As the server is to read it. */
  wire(readable: string): string {
    return this.utf8 ? Buffer.from(readable, 'utf8').toString('latin1') : encodeModifiedUtf7(readable);
  }
}
