import type { Plan } from '../contract/types';
import { SOLE_DOCUMENT } from '../core/columns/columns';
import type { FileColumns } from '../core/columns/file-columns';
import { largest, orderBy } from '../core/columns/order';
import { evidenceOf } from '../core/evidence/evidence';
import { FLAG_BITS } from '../core/mailbox/flags';
import { type Bits, bitsOfRanges, eachBit, hasBit, setBit } from '../core/plan/bits';
import { takableFiles } from '../core/plan/file-candidates';
import { type Suggestions, suggest } from '../core/plan/suggestions';
import { type People, peopleOf, rowEvidence } from '../core/senders/people';
import type { GroupKnowledge } from '../core/senders/ranking';
import { parseSequenceSet } from '../core/sets/ranges';
import type { MailboxView } from './mailbox-view';
import type { Doubtful, SuggestRequest } from './protocol';

/** What the plan could become, and where a mistake in it would hurt. */
export class Planning {
  private people: People | undefined;
  private evidence: Float64Array | undefined;

  constructor(
    private readonly mailbox: MailboxView,
    private readonly now: Date,
  ) {}

  /** The fewest decisions to the target; undefined until it is known what the guards keep. */
  suggest({ plan, missing, free }: SuggestRequest, files: FileColumns): Suggestions | undefined {
    const { columns, scope, matching, timeZone } = this.mailbox;
    const { mask: guarded, waiting } = matching.maskOf('guarded', this.now);
    if (waiting.length > 0) return undefined;
    const out = this.membersOf(plan);
    const { id } = columns;
    const [losing, kept] = [bitsOf(plan.strip, id), bitsOf(plan.kept, id)];
    const takable = takableFiles(
      files,
      columns,
      (row) => scope[row] === 1 && !hasBit(kept, row) && !hasBit(losing, row) && !hasBit(out, row),
    );
    for (let row = 0; row < guarded.length; row++) if (guarded[row] === 1 || hasBit(losing, row)) setBit(out, row);
    return suggest(columns, scope, out, this.peopleNow(), {
      now: this.now,
      timeZone,
      free,
      dismissed: plan.dismissed,
      leftOut: plan.later,
      missing,
      files: takable,
    });
  }

  /** Of the plan the messages with the most evidence for keeping, and the largest. */
  doubtful(plan: Plan): { doubtful: Doubtful[]; largest: Doubtful[] } {
    const { columns } = this.mailbox;
    const rows: number[] = [];
    eachBit(this.membersOf(plan), (row) => rows.push(row));
    const people = this.peopleNow();
    this.evidence ??= rowEvidence(columns, people);
    const { evidence } = this;
    // Evidence in percent first, then size.
    const sizes = Float64Array.from(rows, (row) => columns.size[row] as number);
    const bySize = orderBy(sizes, true);
    const percent = Float64Array.from(bySize, (place) => Math.round(100 * (evidence[rows[place] as number] as number)));
    const byEvidence = orderBy(percent, true);
    const shown = (places: Iterable<number>) =>
      Array.from(places, (place) => this.doubtfulRow(rows[place] as number, people, evidence));
    return {
      doubtful: shown(Array.from(byEvidence.subarray(0, SHOWN), (at) => bySize[at] as number)),
      largest: shown(largest(sizes, SHOWN)),
    };
  }

  private doubtfulRow(row: number, people: People, evidence: Float64Array): Doubtful {
    const { columns } = this.mailbox;
    const { author } = columns.dictionaries;
    const code = columns.author[row] as number;
    const own = firstGroup(people.recipients, row);
    const [known, group] = own >= 0 ? [people.recipients, own] : [people.authors, firstGroup(people.authors, row)];
    const flags = columns.flags[row] as number;
    const ofMessage = [
      ['messageFlagged', (flags & FLAG_BITS.flagged) !== 0],
      ['messageAnswered', (flags & FLAG_BITS.answered) !== 0],
      ['soleDocument', ((columns.signs[row] as number) & SOLE_DOCUMENT) !== 0],
    ] as const;
    return {
      id: columns.id[row] as number,
      size: columns.size[row] as number,
      date: columns.date[row] as number,
      name: author.name[code] as string,
      address: author.address[code] as string,
      evidence: Math.round(100 * (evidence[row] as number)),
      reasons: [
        ...ofMessage.flatMap(([reason, holds]) => (holds ? [{ reason, number: 1 }] : [])),
        ...(group >= 0 ? evidenceOf(known.facts(group)).reasons : []),
      ],
    };
  }

  private peopleNow(): People {
    const { columns, scope } = this.mailbox;
    this.people ??= peopleOf(columns, scope, this.now.getTime() / 1000);
    return this.people;
  }

  private membersOf({ purge, trash }: Plan): Bits {
    const { id } = this.mailbox.columns;
    const members = bitsOf(purge, id);
    for (const [index, word] of bitsOf(trash, id).entries()) members[index] = (members[index] as number) | word;
    return members;
  }
}

const SHOWN = 8;

function bitsOf(sequenceSet: string, ids: Uint32Array): Bits {
  return bitsOfRanges(sequenceSet === '' ? [] : (parseSequenceSet(sequenceSet) ?? []), ids);
}

/** The group of a row with the most evidence; −1 where it is in none. */
function firstGroup({ grouping, evidence }: GroupKnowledge, row: number): number {
  let most = -1;
  for (let at = grouping.starts[row] as number; at < (grouping.starts[row + 1] as number); at++) {
    const group = grouping.members[at] as number;
    if (most < 0 || (evidence[group] as number) > (evidence[most] as number)) most = group;
  }
  return most;
}
