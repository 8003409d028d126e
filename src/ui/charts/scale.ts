import { fittingUnit, OCTETS_IN, type OctetUnit, type UnitSystem } from '../../core/units';

/** A scale of octets in round steps of one unit, about five of them, from nothing to the mark before a full amount. */
export function octetScale(full: number, system: UnitSystem): { unit: OctetUnit; marks: number[] } {
  const unit = fittingUnit(full, system);
  const step = roundStep(full / OCTETS_IN[unit]);
  const marks: number[] = [];
  for (let mark = 0; mark * OCTETS_IN[unit] <= full * 1.001; mark += step) marks.push(mark);
  return { unit, marks };
}

/** A scale of messages in round steps, about five of them. */
export function countScale(full: number): number[] {
  const step = Math.max(1, roundStep(full));
  const marks: number[] = [];
  for (let mark = 0; mark <= full * 1.001; mark += step) marks.push(mark);
  return marks;
}

function roundStep(units: number): number {
  const rough = units / 5;
  const power = 10 ** Math.floor(Math.log10(rough));
  return [1, 2, 5, 10].map((factor) => factor * power).find((step) => step >= rough) ?? rough;
}
