import type { FormEvent } from 'react';
import { OCTETS_IN } from '../../core/units';
import { useChange } from '../../ui/api/account';
import { text } from '../../ui/text';

/** For servers without the quota extension: the user states the limit. */
export function LimitForm() {
  const save = useChange<number>(
    () => '/settings',
    'PATCH',
    (limit) => ({ limit }),
    ['level', 'settings'],
  );
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const mebibytes = Number(new FormData(event.currentTarget).get('limit'));
    if (mebibytes > 0) save.mutate(Math.round(mebibytes * OCTETS_IN.MiB));
  };
  return (
    <form onSubmit={submit} className="card flex flex-wrap items-center gap-3">
      <p>{text.level.limitUnknown}</p>
      <input
        name="limit"
        aria-label={text.level.limitMiB}
        placeholder={text.level.limitMiB}
        type="number"
        min={1}
        required
        className="field w-36"
      />
      <button type="submit" className="button">
        {text.level.setLimit}
      </button>
    </form>
  );
}
