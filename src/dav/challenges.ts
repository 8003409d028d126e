/** What a server asks for with 401 (RFC 9110 §11.6.1). */
export interface Challenge {
  /** In small letters. */
  scheme: string;
  parameters: ReadonlyMap<string, string>;
}

const MOST_CHALLENGES = 8;
const MOST_PARAMETERS = 16;
const MOST_TEXT = 8_192;

const PIECE = /\s*(?:,\s*)*([!#$%&'*+\-.^_`|~\w]+)(?:\s*=\s*(?:"((?:[^"\\]|\\.)*)"|([!#$%&'*+\-.^_`|~\w/]+=*)))?/y;

/** Reads the field WWW-Authenticate. What keeps to no grammar ends it: what stands before is used. */
export function readChallenges(field: string): Challenge[] {
  const challenges: { scheme: string; parameters: Map<string, string> }[] = [];
  if (field.length > MOST_TEXT) return challenges;
  PIECE.lastIndex = 0;
  for (let piece = PIECE.exec(field); piece; piece = PIECE.exec(field)) {
    const [, name = '', quoted, plain] = piece;
    const value = quoted?.replace(/\\(.)/g, '$1') ?? plain;
    const last = challenges.at(-1);
    if (value === undefined) {
      if (challenges.length === MOST_CHALLENGES) break;
      challenges.push({ scheme: name.toLowerCase(), parameters: new Map() });
    } else if (last && last.parameters.size < MOST_PARAMETERS) last.parameters.set(name.toLowerCase(), value);
    else break;
  }
  return challenges;
}
