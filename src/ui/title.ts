import { text } from './text';

const TITLES: Record<string, string> = {
  '/level': text.places.level,
  '/sift': text.places.sift,
  '/senders': text.places.senders,
  '/files': text.places.files,
  '/repeats': text.places.repeats,
  '/suggestions': text.plan.tabs.suggestions,
  '/review': text.plan.tabs.review,
  '/guards': text.plan.tabs.guards,
  '/trash': text.places.trash,
  '/archive': text.places.archive,
  '/ledger': text.places.ledger,
  '/upkeep': text.places.upkeep,
};

/** The title of the page of a place. */
export function titleOf(path: string): string {
  return `${TITLES[path] ?? text.places.level} · ${text.product}`;
}

/** Whether a path is that of a place. */
export function isPlace(path: string): boolean {
  return path in TITLES;
}
