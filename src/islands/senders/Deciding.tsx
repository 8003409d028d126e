import { type FormEvent, useState } from 'react';
import { parseVerdict, printVerdict } from '../../core/senders/verdict';
import { Sheet } from '../../ui/Sheet';
import { text } from '../../ui/text';
import type { SenderRow } from '../../workers/protocol';

export type Verb = 'keep' | 'trash' | 'older' | 'newest' | 'ask later';

/** What can be decided on what is marked, for those who point; keys do the same on the row of the cursor. */
export function Deciding({
  marked,
  canUndo,
  onAct,
  onUndo,
}: {
  marked: number;
  canUndo: boolean;
  onAct(verb: Verb): void;
  onUndo(): void;
}) {
  const verbs: [Verb, string][] = [
    ['keep', text.senders.keep],
    ['trash', text.senders.trash],
    ['older', text.senders.older],
    ['newest', text.senders.newest],
    ['ask later', text.senders.later],
  ];
  return (
    // biome-ignore lint/a11y/useSemanticElements: a row of buttons, not a part of a form
    <div role="group" aria-label={text.senders.decide} className="flex flex-wrap gap-1.5">
      {marked > 0 &&
        verbs.map(([verb, name]) => (
          <button key={verb} type="button" className="button px-2" onClick={() => onAct(verb)}>
            {name}
          </button>
        ))}
      <button type="button" className="button px-2" disabled={!canUndo} onClick={onUndo}>
        {text.senders.undo}
      </button>
    </div>
  );
}

/** A decision that needs a value, and the row it was asked on where nothing is marked. */
export interface Prompt {
  kind: 'older' | 'newest';
  row: SenderRow | undefined;
}

const USUAL = { older: '2y', newest: '10' } as const;

/** Asks for the age or the number; Enter decides, Escape leaves all as it was. */
export function PromptDialog({
  prompt,
  onClose,
  onDecide,
}: {
  prompt: Prompt | undefined;
  onClose(): void;
  onDecide(verdict: string): void;
}) {
  const [wrong, setWrong] = useState(false);
  const kind = prompt?.kind ?? 'older';
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const value = `${new FormData(event.currentTarget).get('value') ?? ''}`.trim();
    const verdict = parseVerdict(`${kind === 'older' ? 'older than' : 'all but the newest'} ${value}`);
    setWrong(!verdict);
    if (verdict) onDecide(printVerdict(verdict));
  };
  return (
    <Sheet
      small
      title={kind === 'older' ? text.senders.olderTitle : text.senders.newestTitle}
      open={prompt !== undefined}
      onClose={() => {
        setWrong(false);
        onClose();
      }}
    >
      <form onSubmit={submit} className="mt-3 grid gap-2">
        <label htmlFor="verdict-value" className="note">
          {kind === 'older' ? text.senders.olderHelp : text.senders.newestHelp}
        </label>
        <span className="flex gap-2">
          <input
            id="verdict-value"
            name="value"
            className="field min-w-0 flex-1"
            defaultValue={USUAL[kind]}
            aria-invalid={wrong}
            // biome-ignore lint/a11y/noAutofocus: a dialog that asks for one thing begins there
            autoFocus
            onFocus={(event) => event.target.select()}
          />
          <button type="submit" className="button button-chief">
            {text.senders.decideThis}
          </button>
        </span>
        {wrong && (
          <p role="alert" className="text-go">
            {text.senders.verdict}
          </p>
        )}
      </form>
    </Sheet>
  );
}
