import { createRoot } from 'react-dom/client';
import type { Access } from './access';
import { Returned } from './Returned';
import { SignIn } from './SignIn';

export function mount(element: HTMLElement): void {
  const offered = element.dataset.offered ? (JSON.parse(element.dataset.offered) as Access) : undefined;
  createRoot(element).render(<SignIn offered={offered} />);
}

export function mountReturned(element: HTMLElement): void {
  createRoot(element).render(<Returned />);
}
