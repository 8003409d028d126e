import { text } from '../../ui/text';

/** Why something is held. */
export function ReasonField({ value, onChange }: { value: string; onChange: (reason: string) => void }) {
  return (
    <label className="grid gap-1">
      {text.archive.holdReason}
      <input
        className="field"
        required
        maxLength={500}
        value={value}
        onChange={({ target }) => onChange(target.value)}
      />
    </label>
  );
}
