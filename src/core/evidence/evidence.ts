/**
 * Evidence for keeping: one figure from 0 to 100, from what the user did with a sender's mail. It orders, it never
 * decides, and every part of it has a reason in words. docs/plan.md tells the weights.
 */

/** What is known of a sender, over the whole mailbox. All of it may grow evidence, none lessens it. */
export interface EvidenceFacts {
  /** How many messages there are, against which the counts of some of them are held. */
  messages: number;
  /** How often the user wrote to them. */
  written: number;
  /** Messages that the user flagged, and answered. */
  flagged: number;
  answered: number;
  /** Letters from them, to one whom the user wrote to. */
  replied: number;
  /** Documents the user sent them that came from nowhere else. */
  documents: number;
  /** Shares of their messages, 0 to 1: letters of a person, records of a transaction, what was seen. */
  letters: number;
  records: number;
  seen: number;
  /** Closeness of their last message: days since then; less is more evidence. */
  days: number;
}

export type EvidenceReason = Exclude<keyof EvidenceFacts, 'messages' | 'days'> | 'recent';

/** A reason, and the figure it rests on: a count, a share, or days. */
export interface Reason {
  reason: EvidenceReason;
  number: number;
}

/** How much of the doubt each reason takes away at most, and at which count it takes half of that. */
const COUNTED = {
  written: { most: 0.75, half: 4 },
  replied: { most: 0.5, half: 3 },
} as const;

/** The same of counts as a share of all messages: one flag among ten says more than one among thousands. */
const COUNTED_AMONG = {
  flagged: { most: 0.6, half: 0.03 },
  answered: { most: 0.5, half: 0.1 },
  documents: { most: 0.5, half: 0.05 },
} as const;

const SHARED = { letters: 0.3, records: 0.35, seen: 0.12 } as const;

/** The last message, at its day, and the days in which that halves. */
const RECENT = { most: 0.08, half: 60 };

interface Counted {
  most: number;
  half: number;
}

/** Reasons that take away less than this are not told. */
const TOLD = 0.02;

/**
 * The figure and its reasons, the strongest first. Each reason leaves a part of the doubt that the others left, so the
 * figure rises with each of them, whatever the others are, and never passes 100.
 */
export function evidenceOf(facts: EvidenceFacts): { figure: number; reasons: Reason[] } {
  const parts = partsOf(facts);
  return {
    figure: Math.round(100 * (1 - doubtOf(parts))),
    reasons: parts
      .filter(({ weight }) => weight >= TOLD)
      .sort((a, b) => b.weight - a.weight)
      .map(({ reason, number }) => ({ reason, number })),
  };
}

/** The same figure, not rounded, from 0 to 1. */
export function evidenceShare(facts: EvidenceFacts): number {
  return 1 - doubtOf(partsOf(facts));
}

interface Part extends Reason {
  weight: number;
}

function partsOf(facts: EvidenceFacts): Part[] {
  const parts: Part[] = [];
  const counted = (reason: EvidenceReason & keyof EvidenceFacts, { most, half }: Counted, among: number) =>
    parts.push({ reason, number: facts[reason], weight: most * (1 - 2 ** (-facts[reason] / among / half)) });
  const all = Math.max(1, facts.messages);
  for (const reason of ['written', 'replied'] as const) counted(reason, COUNTED[reason], 1);
  for (const reason of ['flagged', 'answered', 'documents'] as const) counted(reason, COUNTED_AMONG[reason], all);
  for (const [reason, most] of Object.entries(SHARED) as [keyof typeof SHARED, number][])
    parts.push({ reason, number: facts[reason], weight: most * facts[reason] });
  const days = Math.max(0, facts.days);
  parts.push({ reason: 'recent', number: days, weight: RECENT.most * 2 ** (-days / RECENT.half) });
  return parts;
}

function doubtOf(parts: readonly Part[]): number {
  return parts.reduce((doubt, { weight }) => doubt * (1 - weight), 1);
}

/** What one message adds to the evidence of its sender, each as the share of doubt that it takes away. */
const OF_MESSAGE = { flagged: 0.6, answered: 0.5, soleDocument: 0.5 } as const;

/**
 * Evidence for one message, 0 to 1.
 *
 * @param sender that of whoever it is from, or for the user's own mail of whoever it went to.
 */
export function messageEvidence(
  sender: number,
  marks: { flagged: boolean; answered: boolean; soleDocument: boolean },
): number {
  let doubt = 1 - sender;
  for (const mark of ['flagged', 'answered', 'soleDocument'] as const) if (marks[mark]) doubt *= 1 - OF_MESSAGE[mark];
  return 1 - doubt;
}
