import { type KeyboardEvent, useEffect, useState } from 'react';
import { parseCriteria } from '../../core/criteria/parse';
import { text } from '../text';

/** Text of criteria. It takes effect when it can be read; where it can't, the message says at which place. */
export function CriteriaField({
  value,
  placeholder,
  onChange,
}: {
  value: string;
  placeholder: string;
  onChange(where: string): void;
}) {
  const [typed, setTyped] = useState(value);
  useEffect(() => setTyped(value), [value]);
  const parsed = parseCriteria(typed);
  const apply = () => {
    if (parsed.ok && typed !== value) onChange(typed.trim());
  };
  const onKeyDown = (event: KeyboardEvent) => {
    if (event.key === 'Enter') apply();
    if (event.key === 'Escape') setTyped(value);
  };
  return (
    <div className="min-w-0 flex-1 max-md:basis-full">
      <input
        data-criteria
        aria-label={text.sift.criteria}
        aria-invalid={!parsed.ok}
        aria-describedby={parsed.ok ? undefined : 'criteria-wrong'}
        className="field w-full font-mono"
        spellCheck={false}
        autoComplete="off"
        placeholder={placeholder}
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        onBlur={apply}
        onKeyDown={onKeyDown}
      />
      {!parsed.ok && (
        <p id="criteria-wrong" role="alert" className="mt-1 text-go">
          <span className="font-mono">
            {typed.slice(0, parsed.error.at)}
            <span aria-hidden="true">▸</span>
          </span>{' '}
          {text.sift.wrong(parsed.error.at + 1, parsed.error.expected)}
        </p>
      )}
    </div>
  );
}
