import { text } from './text';

/** What a view shows in place of what it has not got. */
export function Loading() {
  return (
    <p role="status" className="p-4 text-ink-2">
      {text.states.loading}
    </p>
  );
}

export function Failed({ error, retry }: { error: Error; retry(): void }) {
  return (
    <div role="alert" className="card m-4 border-go">
      <p className="font-semibold">{text.states.failed}</p>
      <p className="my-2">{error.message}</p>
      <button type="button" className="button" onClick={retry}>
        {text.states.retry}
      </button>
    </div>
  );
}

/** Why a change was refused, where it was. */
export function Refused({ error }: { error: Error | null }) {
  return error ? (
    <p role="alert" className="my-2 text-go">
      {error.message}
    </p>
  ) : null;
}
