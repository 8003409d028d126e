import type { Lot } from '../../../contract/types';
import type { Measure } from '../../../core/level/gauge';
import type { Suggestion } from '../../../core/plan/suggestions';
import { OF_THE_PLAN, useChange, useFigures } from '../../../ui/api/account';
import { Bar } from '../../../ui/Bar';
import { Link } from '../../../ui/route';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';

/** What a suggestion is called. */
function nameOfSuggestion({ kind, subject, years }: Suggestion): string {
  const shown = kind === 'category' ? text.categories[subject as keyof typeof text.categories] : subject;
  return text.suggestions.kinds[kind](shown, text.suggestions.older(years)).trim();
}

/** One decision that is proposed: what it wins, what speaks against it, and the two answers. */
export function Decision({
  suggestion,
  place,
  of,
  most,
  beyond,
  reaches,
}: {
  suggestion: Suggestion;
  place: number;
  /** What is missing: octets or messages. */
  of: Measure;
  /** What the one wins that wins most. */
  most: number;
  /** Whether it comes after the place where to stop. */
  beyond: boolean;
  reaches: boolean;
}) {
  const { octets, amount } = useFigures();
  const name = nameOfSuggestion(suggestion);
  const take = useChange<void, Lot>(
    () => '/lots',
    'POST',
    () => ({ where: suggestion.where, fate: suggestion.fate, label: name.slice(0, 200), suggestion: suggestion.key }),
    OF_THE_PLAN,
  );
  const dismiss = useChange<void>(
    () => '/suggestions/dismissed',
    'POST',
    () => ({ key: suggestion.key }),
    ['plan'],
  );
  const { adds, evidence, senders } = suggestion;
  const busy = take.isPending || dismiss.isPending;
  return (
    <li className={`border-b border-hair py-1.5 ${beyond ? 'text-ink-2' : ''}`}>
      <div className="decision">
        <span className="text-right text-ink-2">{place}</span>
        <span className="min-w-0">
          <Link
            to={`/${suggestion.fate === 'strip' ? 'files' : 'sift'}?where=${encodeURIComponent(suggestion.where)}`}
            className="block font-semibold wrap-anywhere"
          >
            {name}
          </Link>
          <span className="note block">
            {of === 'bytes' ? text.messages(adds.messages, count(adds.messages)) : octets(adds.bytes)} ·{' '}
            {text.suggestions.from(senders, count(senders))} ·{' '}
            {suggestion.fate === 'strip'
              ? text.suggestions.textStays(suggestion.files, count(suggestion.files))
              : text.suggestions.evidence(evidence)}
            {suggestion.fate === 'trash' && senders > 1 && `, ${text.suggestions.mostEvidence(suggestion.most)}`}
            {reaches && ` · ${text.tank.reached}`}
          </span>
        </span>
        <span className="text-right whitespace-nowrap">{amount(of, adds[of])}</span>
        <span className="minor">
          <Bar share={adds[of] / most} kind="hatch" />
        </span>
        <span className="flex gap-1.5">
          <button
            type="button"
            className={`button px-2 ${place === 1 && !beyond ? 'button-chief' : ''}`}
            disabled={busy}
            aria-label={`${text.suggestions.take}: ${name}`}
            onClick={() => take.mutate()}
          >
            {text.suggestions.take}
          </button>
          <button
            type="button"
            className="button px-2"
            disabled={busy}
            aria-label={`${text.suggestions.dismiss}: ${name}`}
            onClick={() => dismiss.mutate()}
          >
            {text.suggestions.dismiss}
          </button>
        </span>
      </div>
      <Refused error={take.error ?? dismiss.error} />
    </li>
  );
}
