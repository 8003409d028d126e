/** What one method of authentication found (RFC 8601 §2.2): `dkim`, `pass`, and properties such as `header.d`. */
export interface MethodResult {
  method: string;
  result: string;
  properties: ReadonlyMap<string, string>;
}

/** An Authentication-Results field. */
export interface AuthenticationResults {
  /** Who says it: the authserv-id, in lower case. */
  by: string;
  results: MethodResult[];
}

const MAX_FIELD = 16_384;
const MAX_RESULTS = 100;

/**
 * Reads the body of an Authentication-Results field, unfolded (RFC 8601 §2.2). Comments are left out, wherever they stand.
 *
 * @returns undefined where it has no authserv-id, or a version other than 1.
 */
export function parseAuthenticationResults(field: string): AuthenticationResults | undefined {
  if (field.length > MAX_FIELD) return undefined;
  const [head = [], ...rest] = partsOf(field);
  const [by, version] = head;
  if (by === undefined || by === '' || (version !== undefined && version !== '1')) return undefined;
  const results: MethodResult[] = [];
  for (const words of rest.slice(0, MAX_RESULTS)) {
    const pairs = pairsOf(words);
    const [first, ...more] = pairs;
    // `none` says that nothing was looked at (no-result).
    if (!first) continue;
    const [method, result] = first;
    results.push({
      method: method.replace(/\/.*$/s, '').toLowerCase(),
      result: result.toLowerCase(),
      properties: new Map(more.map(([name, value]) => [name.toLowerCase(), value])),
    });
  }
  return { by: by.toLowerCase(), results };
}

/** The words of each part between semicolons: tokens, quoted strings without their quotes, and `=` by itself. */
function partsOf(field: string): string[][] {
  const parts: string[][] = [[]];
  let word = '';
  let isWord = false;
  const end = () => {
    if (isWord) parts.at(-1)?.push(word);
    word = '';
    isWord = false;
  };
  for (let at = 0; at < field.length; at++) {
    const sign = field[at] as string;
    if (sign === '(') {
      end();
      at = endOfComment(field, at);
    } else if (sign === '"') {
      isWord = true;
      for (at++; at < field.length && field[at] !== '"'; at++) {
        if (field[at] === '\\') at++;
        word += field[at] ?? '';
      }
    } else if (sign === ';') {
      end();
      parts.push([]);
    } else if (sign === '=' && !isInValue(parts.at(-1) ?? [], word)) {
      end();
      parts.at(-1)?.push('=');
    } else if (/\s/.test(sign)) end();
    else {
      word += sign;
      isWord = true;
    }
  }
  end();
  return parts;
}

/** Whether a `=` belongs to a value, such as the end of base64 in header.b. */
function isInValue(words: readonly string[], word: string): boolean {
  return word !== '' && words.at(-1) === '=';
}

/** Where a comment ends, comments in it counted (RFC 5322 §3.2.2); at the end of the field where it never does. */
function endOfComment(field: string, from: number): number {
  let depth = 0;
  for (let at = from; at < field.length; at++) {
    const sign = field[at];
    if (sign === '\\') at++;
    else if (sign === '(') depth++;
    else if (sign === ')' && --depth === 0) return at;
  }
  return field.length;
}

/** `name = value` of words; what stands between is left out. */
function pairsOf(words: readonly string[]): [string, string][] {
  const pairs: [string, string][] = [];
  for (let at = 1; at + 1 < words.length; at++)
    if (words[at] === '=' && words[at - 1] !== '=') pairs.push([words[at - 1] as string, words[at + 1] as string]);
  return pairs;
}
