import { text } from '../text';

/** Takes what is marked into the plan. */
export function AddToPlan({ disabled, onAdd }: { disabled: boolean; onAdd(): void }) {
  return (
    <button type="button" className="button button-chief" disabled={disabled} onClick={onAdd}>
      {text.sift.add}
    </button>
  );
}
