/** A token of a command (RFC 9051 §9). Texts are octets as latin1 strings. */
export type Token =
  | { type: 'atom'; value: string }
  | { type: 'string'; value: string }
  | { type: 'list'; items: Token[] };

export class BadCommand extends Error {}

/** Reads the arguments of a command whose literals were put in as separate pieces. */
export function tokenise(pieces: readonly (string | Buffer)[]): Token[] {
  const reader = new Reader(pieces);
  const tokens: Token[] = [];
  while (!reader.done()) tokens.push(reader.token());
  return tokens;
}

class Reader {
  private piece = 0;
  private at = 0;

  constructor(private readonly pieces: readonly (string | Buffer)[]) {
    this.skip();
  }

  done(): boolean {
    return this.piece >= this.pieces.length;
  }

  token(): Token {
    const here = this.pieces[this.piece];
    if (here === undefined) throw new BadCommand('The command ends too early');
    if (Buffer.isBuffer(here)) {
      this.next();
      return { type: 'string', value: here.toString('latin1') };
    }
    const letter = here[this.at] as string;
    if (letter === '(') return this.list();
    if (letter === '"') return this.quoted(here);
    if (letter === ')') throw new BadCommand('A parenthesis is closed that was not opened');
    return this.atom(here);
  }

  private list(): Token {
    this.at++;
    this.skip();
    const items: Token[] = [];
    for (;;) {
      const here = this.pieces[this.piece];
      if (here === undefined) throw new BadCommand('A parenthesis is not closed');
      if (!Buffer.isBuffer(here) && here[this.at] === ')') {
        this.at++;
        this.skip();
        return { type: 'list', items };
      }
      items.push(this.token());
    }
  }

  private quoted(here: string): Token {
    const pattern = /"((?:[^"\\]|\\.)*)"/y;
    pattern.lastIndex = this.at;
    const match = pattern.exec(here);
    if (!match) throw new BadCommand('A quoted string is not closed');
    this.at = pattern.lastIndex;
    this.skip();
    return { type: 'string', value: (match[1] as string).replace(/\\(.)/g, '$1') };
  }

  /** An atom may hold a section in brackets, whose blanks and lists belong to it: BODY[HEADER.FIELDS (To)]<0.9>. */
  private atom(here: string): Token {
    const start = this.at;
    let bracket = 0;
    for (; this.at < here.length; this.at++) {
      const letter = here[this.at] as string;
      if (letter === '[') bracket++;
      else if (letter === ']') bracket--;
      else if (bracket === 0 && (letter === ' ' || letter === '(' || letter === ')')) break;
    }
    if (this.at === start) throw new BadCommand('The command can’t be read');
    const value = here.slice(start, this.at);
    this.skip();
    return { type: 'atom', value };
  }

  private skip(): void {
    for (;;) {
      const here = this.pieces[this.piece];
      if (here === undefined || Buffer.isBuffer(here)) return;
      while (here[this.at] === ' ') this.at++;
      if (this.at < here.length) return;
      this.next();
      if (Buffer.isBuffer(this.pieces[this.piece])) return;
    }
  }

  private next(): void {
    this.piece++;
    this.at = 0;
    const here = this.pieces[this.piece];
    if (typeof here === 'string') this.skip();
  }
}

/** The text of an atom or string. */
export function textOf(token: Token | undefined): string {
  if (!token || token.type === 'list') throw new BadCommand('A word is missing');
  return token.value;
}

export function atomOf(token: Token | undefined): string {
  return textOf(token).toUpperCase();
}

export function itemsOf(token: Token | undefined): Token[] {
  if (token?.type !== 'list') throw new BadCommand('A list in parentheses is missing');
  return token.items;
}

/** Modified UTF-7 (RFC 3501 §5.1.3). */
export function decodeFolderName(name: string): string {
  return name.replace(/&([^-]*)-/g, (_, coded: string) => {
    if (coded === '') return '&';
    return Buffer.from(coded.replaceAll(',', '/'), 'base64').swap16().toString('utf16le');
  });
}
