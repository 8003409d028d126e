import { OCTETS_IN, type OctetUnit, octetUnit } from '../units';

/** How full somebody says a mailbox is: shares of one, and octets. */
export interface SaidFigures {
  shares: number[];
  octets: number[];
}

/** Figures that are looked at of a text, and how much of it is. */
const MAX_FIGURES = 20;
const MAX_TEXT = 20_000;

/** The figures in a text: `95 %`, `1.9 GB`, `1,9 Go`. A comma or a dot before one or two digits is that of decimals. */
export function figuresIn(text: string): SaidFigures {
  const said: SaidFigures = { shares: [], octets: [] };
  const read = text.slice(0, MAX_TEXT);
  let count = 0;
  for (const [, number = '', unit = ''] of read.matchAll(
    /(?<![\d.,])(\d{1,7}(?:[.,]\d{1,3})?)[ \u00a0]?(%|[KMGT]i?B|[KMGT]o|octets?|bytes?)(?![a-z])/gi,
  )) {
    if (++count > MAX_FIGURES) break;
    const amount = numberOf(number);
    if (unit === '%') {
      if (amount > 0 && amount <= 200) said.shares.push(amount / 100);
    } else said.octets.push(amount * octetsOf(unit));
  }
  return said;
}

/** Three digits behind a mark are thousands where more stand before it than nothing. */
function numberOf(text: string): number {
  const [whole = '', part = ''] = text.split(/[.,]/);
  return part.length === 3 && whole !== '0' ? Number(whole + part) : Number(`${whole}.${part || '0'}`);
}

function octetsOf(unit: string): number {
  const name = unit.toLowerCase();
  if (name.startsWith('byte') || name.startsWith('octet')) return 1;
  // `Go` is how French writes GB.
  const known: OctetUnit | undefined = octetUnit(name.replace(/o$/, 'b'));
  return known ? OCTETS_IN[known] : name.startsWith('t') ? 1e12 : 1;
}

/** How far a share may be off, and octets in parts of one: a figure is rounded, and was read at another hour. */
const SHARE_OFF = 0.03;
const OCTETS_OFF = 0.06;

/**
 * Whether what a message says agrees with what the server said then.
 *
 * @returns null where the message says no figure.
 */
export function agrees(said: SaidFigures, server: { used: number; limit: number }): boolean | null {
  if (said.shares.length + said.octets.length === 0) return null;
  const share = server.used / Math.max(1, server.limit);
  if (said.shares.length > 0) return said.shares.some((one) => Math.abs(one - share) <= SHARE_OFF);
  // Of several the largest is the limit. Units of 1000 and of 1024 are written alike, so both are tried.
  const used = said.octets.length === 1 ? said.octets : [...said.octets].sort((a, b) => a - b).slice(0, -1);
  return used.some((one) => [1, 1.024, 1.024 ** 2, 1.024 ** 3].some((factor) => isNear(one * factor, server.used)));
}

function isNear(one: number, other: number): boolean {
  return Math.abs(one - other) <= OCTETS_OFF * Math.max(one, other);
}
