import { type AnchorHTMLAttributes, createContext, type MouseEvent, useContext, useSyncExternalStore } from 'react';

/** The place in view and the state of the view, both in the URL. */
export interface Route {
  path: string;
  search: URLSearchParams;
}

const CHANGED = 'tamsel-route';

/** Path and query of the page as the server was asked for it: what the first rendering shows, there and here. */
export const AskedFor = createContext('/');

/** Which account is in view, where the session has several; it goes along from place to place. */
export const MAILBOX = 'mailbox';

function inSameMailbox(to: string, here: URLSearchParams): string {
  const mailbox = here.get(MAILBOX);
  const [path, search = ''] = to.split('?');
  const wanted = new URLSearchParams(search);
  if (mailbox === null || wanted.has(MAILBOX)) return to;
  wanted.set(MAILBOX, mailbox);
  return `${path}?${wanted}`;
}

function subscribe(changed: () => void): () => void {
  window.addEventListener('popstate', changed);
  window.addEventListener(CHANGED, changed);
  return () => {
    window.removeEventListener('popstate', changed);
    window.removeEventListener(CHANGED, changed);
  };
}

export function useRoute(): Route {
  const asked = useContext(AskedFor);
  const here = useSyncExternalStore(
    subscribe,
    () => window.location.pathname + window.location.search,
    () => asked,
  );
  const [path, search] = here.split('?');
  return { path: path as string, search: new URLSearchParams(search) };
}

/** Goes to another place; `replace` changes the state of this one without a step in the history. */
export function go(to: string, replace = false): void {
  const url = inSameMailbox(to, new URLSearchParams(window.location.search));
  if (replace) window.history.replaceState(null, '', url);
  else window.history.pushState(null, '', url);
  window.dispatchEvent(new Event(CHANGED));
}

/** The same place with some of its state changed; empty values are left out of the URL. */
export function withState({ path, search }: Route, changes: Record<string, string>): string {
  const next = new URLSearchParams(search);
  for (const [name, value] of Object.entries(changes)) {
    if (value === '') next.delete(name);
    else next.set(name, value);
  }
  const printed = next.toString();
  return printed === '' ? path : `${path}?${printed}`;
}

/** An anchor that changes the place without loading a page. */
export function Link({ to, ...rest }: { to: string } & AnchorHTMLAttributes<HTMLAnchorElement>) {
  const { search } = useRoute();
  const onClick = (event: MouseEvent) => {
    if (event.ctrlKey || event.metaKey || event.shiftKey || event.button !== 0) return;
    event.preventDefault();
    go(to);
  };
  return <a href={inSameMailbox(to, search)} onClick={onClick} {...rest} />;
}
