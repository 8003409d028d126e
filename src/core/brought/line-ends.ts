const LF = 0x0a;
const CR = 0x0d;
const CRLF = Buffer.from('\r\n', 'latin1');

/**
 * The octets of a message with the line ends of mail (RFC 5322 §2.1). Where its first line ends with LF alone, as files have it on
 * many systems, all lines get CRLF; else all stays as it is.
 */
export async function* withMailLineEnds(octets: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array> {
  let isBare: boolean | undefined;
  /** The octet before the piece that is looked at. */
  let last = 0;
  for await (const piece of octets) {
    const feed = isBare === undefined ? piece.indexOf(LF) : -1;
    if (feed >= 0) isBare = (feed === 0 ? last : piece[feed - 1]) !== CR;
    if (isBare) yield* converted(piece, last);
    else yield piece;
    last = piece.at(-1) ?? last;
  }
}

function* converted(piece: Uint8Array, before: number): Generator<Uint8Array> {
  let from = 0;
  for (let feed = piece.indexOf(LF); feed >= 0; feed = piece.indexOf(LF, feed + 1)) {
    if ((feed === 0 ? before : piece[feed - 1]) === CR) continue;
    if (feed > from) yield piece.subarray(from, feed);
    yield CRLF;
    from = feed + 1;
  }
  if (from < piece.length) yield piece.subarray(from);
}
