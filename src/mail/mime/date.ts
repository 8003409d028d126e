/** Earliest and latest Date field that is believed: before there was mail, and beyond any clock that is merely wrong. */
const BELIEVED = { from: Date.UTC(1971, 0), to: Date.UTC(2100, 0) };

/** Reads an instant out of a field (RFC 5322 §3.3); null where there is none, or an absurd one. */
export function believedDate(text: string | null): Date | null {
  if (text === null) return null;
  const date = new Date(text);
  const time = date.getTime();
  return time >= BELIEVED.from && time < BELIEVED.to ? date : null;
}
