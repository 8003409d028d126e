/** Units of octets after IEC 80000-13: powers of 1024 with an i, powers of 1000 without. Keys are as printed. */
export const OCTETS_IN = {
  B: 1,
  kB: 1e3,
  MB: 1e6,
  GB: 1e9,
  KiB: 2 ** 10,
  MiB: 2 ** 20,
  GiB: 2 ** 30,
} as const;

export type OctetUnit = keyof typeof OCTETS_IN;
export type UnitSystem = 'binary' | 'decimal';

const LADDER: Record<UnitSystem, OctetUnit[]> = {
  binary: ['B', 'KiB', 'MiB', 'GiB'],
  decimal: ['B', 'kB', 'MB', 'GB'],
};

/** Finds a unit by its name in any letter case. */
export function octetUnit(name: string): OctetUnit | undefined {
  const wanted = name.toLowerCase();
  return (Object.keys(OCTETS_IN) as OctetUnit[]).find((unit) => unit.toLowerCase() === wanted);
}

/** The largest unit of a system in which an amount is at least one. */
export function fittingUnit(octets: number, system: UnitSystem = 'binary'): OctetUnit {
  const ladder = LADDER[system];
  let fitting = ladder[0] as OctetUnit;
  for (const unit of ladder) if (Math.abs(octets) >= OCTETS_IN[unit]) fitting = unit;
  return fitting;
}

/** An amount in the unit that fits it, for text outside a page. */
export function printOctets(octets: number, system: UnitSystem): string {
  const unit = fittingUnit(octets, system);
  return `${(octets / OCTETS_IN[unit]).toFixed(unit === 'B' ? 0 : 2)} ${unit}`;
}
