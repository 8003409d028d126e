/**
 * Numbers that PostgreSQL packed into one value, highest octet first, so that no row is ever an object.
 *
 * @param octets of `string_agg(int4send(...))` or `float8send`; null where there was no row.
 */
export function unpacked(octets: Buffer | null, width: 4 | 8): Int32Array | Float64Array {
  // Copied, since a view of numbers must begin at a multiple of their width.
  const copy = Buffer.from(new Uint8Array(octets ?? []).buffer);
  return width === 4 ? new Int32Array(copy.swap32().buffer) : new Float64Array(copy.swap64().buffer);
}
