import { decodeCharset, decodeWords } from './charset';

/**
 * A parameter's value: plain, in encoded words as many programs wrongly write it, or by RFC 2231 with a charset (§4) or in
 * pieces (§3), where `name*` counts before `name`.
 */
export function parameterOf(parameters: ReadonlyMap<string, string> | null, name: string): string {
  if (!parameters) return '';
  const extended = parameters.get(`${name}*`);
  if (extended !== undefined) return decodeExtended(extended);
  if (parameters.has(`${name}*0`) || parameters.has(`${name}*0*`)) return joined(parameters, name);
  return decodeWords(parameters.get(name) ?? '');
}

function joined(parameters: ReadonlyMap<string, string>, name: string): string {
  let whole = '';
  let isExtended = false;
  for (let number = 0; ; number++) {
    const plain = parameters.get(`${name}*${number}`);
    const encoded = parameters.get(`${name}*${number}*`);
    if (plain === undefined && encoded === undefined) break;
    if (number === 0) isExtended = encoded !== undefined;
    // In a value that is percent-encoded a piece may stand as it is, and then means its own letters.
    whole += encoded ?? (isExtended ? (plain as string).replaceAll('%', '%25') : plain);
  }
  return isExtended ? decodeExtended(whole) : decodeWords(whole);
}

/** `charset'language'percent-encoded` (RFC 2231 §4). */
function decodeExtended(value: string): string {
  const match = /^([^']*)'[^']*'([\s\S]*)$/.exec(value);
  const octets = Buffer.from(
    (match?.[2] ?? value).replace(/%([0-9a-f]{2})/gi, (_, hex: string) =>
      String.fromCharCode(Number.parseInt(hex, 16)),
    ),
    'latin1',
  );
  return decodeCharset(octets, match?.[1] || 'utf-8');
}
