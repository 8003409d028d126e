const LF = 0x0a;
const CR = 0x0d;

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
    yield isBare ? converted(piece, last) : piece;
    last = piece.at(-1) ?? last;
  }
}

/** All at once: a line by itself would cost more than what is done with it. */
function converted(piece: Uint8Array, before: number): Uint8Array {
  const bare: number[] = [];
  for (let feed = piece.indexOf(LF); feed >= 0; feed = piece.indexOf(LF, feed + 1))
    if ((feed === 0 ? before : piece[feed - 1]) !== CR) bare.push(feed);
  if (bare.length === 0) return piece;
  const whole = new Uint8Array(piece.length + bare.length);
  let from = 0;
  for (const [added, feed] of bare.entries()) {
    whole.set(piece.subarray(from, feed), from + added);
    whole[feed + added] = CR;
    from = feed;
  }
  whole.set(piece.subarray(from), from + bare.length);
  return whole;
}
