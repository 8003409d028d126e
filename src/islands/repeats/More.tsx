import { text } from '../../ui/text';

/** Asks for the next page of a list, where there is one. */
export function More({
  list,
}: {
  list: { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage(): Promise<unknown> };
}) {
  if (!list.hasNextPage) return null;
  return (
    <button
      type="button"
      className="link mt-2 self-start"
      disabled={list.isFetchingNextPage}
      onClick={() => void list.fetchNextPage()}
    >
      {text.repeats.more}
    </button>
  );
}
