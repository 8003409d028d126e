/** The grammar of Sieve (RFC 5228 §8.2), as far as it is needed to find what a script does. */

/** An argument: a tag such as `:contains`, a number in octets, texts, or a test. */
export type Argument =
  | { kind: 'tag'; name: string }
  | { kind: 'number'; number: number }
  | { kind: 'texts'; texts: string[] }
  | { kind: 'tests'; tests: Test[] };

export interface Test {
  name: string;
  args: Argument[];
}

export interface Command extends Test {
  block: Command[] | null;
  /** Characters of the script before its first one, and before what follows it. */
  from: number;
  to: number;
}

type Token =
  | { kind: 'word' | 'tag' | 'text'; text: string; from: number; to: number }
  | { kind: 'number'; number: number; from: number; to: number }
  | { kind: 'mark'; text: string; from: number; to: number };

export const MAX_SCRIPT = 1_000_000;
const MAX_DEPTH = 32;
const UNITS: Record<string, number> = { k: 2 ** 10, m: 2 ** 20, g: 2 ** 30 };

/** A script that is no Sieve as far as we know. `at` is a number of characters. */
export class SieveSyntaxError extends Error {
  constructor(
    readonly at: number,
    expected: string,
  ) {
    super(`expected ${expected}`);
  }
}

/** @throws SieveSyntaxError */
export function parseSieve(script: string): Command[] {
  if (script.length > MAX_SCRIPT) throw new SieveSyntaxError(0, `at most ${MAX_SCRIPT} characters`);
  return new Parser(tokensOf(script), script.length).commands(false, 0);
}

function tokensOf(script: string): Token[] {
  const tokens: Token[] = [];
  const match = (pattern: RegExp, at: number) => {
    pattern.lastIndex = at;
    return pattern.exec(script)?.[0];
  };
  for (let at = 0; at < script.length; ) {
    const space = match(SPACE, at);
    if (space) {
      at += space.length;
      continue;
    }
    if (script.startsWith('/*', at)) {
      const end = script.indexOf('*/', at + 2);
      if (end < 0) throw new SieveSyntaxError(at, 'the end of a comment');
      at = end + 2;
      continue;
    }
    const from = at;
    const sign = script[at] as string;
    const name = match(NAME, at);
    const number = match(NUMBER, at);
    if (sign === '"') {
      let text = '';
      for (at++; script[at] !== '"'; at++) {
        if (script[at] === '\\') at++;
        const one = script[at];
        if (one === undefined) throw new SieveSyntaxError(from, 'the end of a text');
        text += one;
      }
      tokens.push({ kind: 'text', text, from, to: ++at });
    } else if (name !== undefined && /^text$/i.test(name) && script[at + name.length] === ':') {
      const head = match(MULTILINE, at);
      if (head === undefined) throw new SieveSyntaxError(at, 'a line end after text:');
      const end = /(^|\n)\.\r?\n/g;
      end.lastIndex = at + head.length - 1;
      const found = end.exec(script);
      if (!found) throw new SieveSyntaxError(from, 'a line with a dot alone');
      const body = script.slice(at + head.length, found.index + (found[1]?.length ?? 0));
      at = found.index + found[0].length;
      tokens.push({ kind: 'text', text: body.replace(/^\.\./gm, '.'), from, to: at });
    } else if (sign === ':') {
      const tag = match(NAME, at + 1);
      if (tag === undefined) throw new SieveSyntaxError(at, 'a name after :');
      at += 1 + tag.length;
      tokens.push({ kind: 'tag', text: tag.toLowerCase(), from, to: at });
    } else if (name !== undefined) {
      at += name.length;
      tokens.push({ kind: 'word', text: name.toLowerCase(), from, to: at });
    } else if (number !== undefined) {
      at += number.length;
      const unit = UNITS[number.slice(-1).toLowerCase()] ?? 1;
      tokens.push({ kind: 'number', number: Number.parseInt(number, 10) * unit, from, to: at });
    } else if ('{}()[];,'.includes(sign)) tokens.push({ kind: 'mark', text: sign, from, to: ++at });
    else throw new SieveSyntaxError(at, 'a command');
  }
  return tokens;
}

/** White space, and comments to the end of their line. */
const SPACE = /(?:\s|#[^\n]*(?:\n|$))+/y;
const NAME = /[A-Za-z_][A-Za-z0-9_]*/y;
const NUMBER = /\d{1,15}[KMGkmg]?/y;
const MULTILINE = /text:[ \t]*(?:#[^\n]*)?\r?\n/iy;

class Parser {
  private at = 0;

  constructor(
    private readonly tokens: readonly Token[],
    private readonly end: number,
  ) {}

  commands(isBlock: boolean, depth: number): Command[] {
    if (depth > MAX_DEPTH) throw this.wrong(`at most ${MAX_DEPTH} levels of blocks`);
    const commands: Command[] = [];
    while (this.at < this.tokens.length && !(isBlock && this.is('}'))) commands.push(this.command(depth));
    return commands;
  }

  private command(depth: number): Command {
    const start = this.tokens[this.at];
    if (start?.kind !== 'word') throw this.wrong('a command');
    this.at++;
    const args = this.args(depth);
    if (this.is(';')) return { name: start.text, args, block: null, from: start.from, to: this.take().to };
    if (!this.is('{')) throw this.wrong('; or {');
    this.at++;
    const block = this.commands(true, depth + 1);
    if (!this.is('}')) throw this.wrong('}');
    return { name: start.text, args, block, from: start.from, to: this.take().to };
  }

  private args(depth: number): Argument[] {
    if (depth > MAX_DEPTH) throw this.wrong(`at most ${MAX_DEPTH} levels of tests`);
    const args: Argument[] = [];
    for (;;) {
      const token = this.tokens[this.at];
      if (!token) return args;
      if (token.kind === 'tag') args.push({ kind: 'tag', name: token.text });
      else if (token.kind === 'number') args.push({ kind: 'number', number: token.number });
      else if (token.kind === 'text') args.push({ kind: 'texts', texts: [token.text] });
      else if (this.is('[')) {
        this.at++;
        args.push({ kind: 'texts', texts: this.list() });
        continue;
      } else if (this.is('(')) {
        this.at++;
        args.push({ kind: 'tests', tests: this.tests(depth) });
        return args;
      } else if (token.kind === 'word') {
        args.push({ kind: 'tests', tests: [this.test(depth)] });
        return args;
      } else return args;
      this.at++;
    }
  }

  private test(depth: number): Test {
    const token = this.tokens[this.at];
    if (token?.kind !== 'word') throw this.wrong('a test');
    this.at++;
    return { name: token.text, args: this.args(depth + 1) };
  }

  private tests(depth: number): Test[] {
    const tests = [this.test(depth)];
    while (this.is(',')) {
      this.at++;
      tests.push(this.test(depth));
    }
    if (!this.is(')')) throw this.wrong(')');
    this.at++;
    return tests;
  }

  private list(): string[] {
    const texts: string[] = [];
    for (;;) {
      const token = this.tokens[this.at];
      if (token?.kind !== 'text') throw this.wrong('a text');
      texts.push(token.text);
      this.at++;
      if (this.is(']')) break;
      if (!this.is(',')) throw this.wrong(', or ]');
      this.at++;
    }
    this.at++;
    return texts;
  }

  private is(mark: string): boolean {
    const token = this.tokens[this.at];
    return token?.kind === 'mark' && token.text === mark;
  }

  private take(): Token {
    return this.tokens[this.at++] as Token;
  }

  private wrong(expected: string): SieveSyntaxError {
    return new SieveSyntaxError(this.tokens[this.at]?.from ?? this.end, expected);
  }
}
