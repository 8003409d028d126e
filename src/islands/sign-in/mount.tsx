import { createRoot } from 'react-dom/client';
import { type Offered, SignIn } from './SignIn';

export function mount(element: HTMLElement): void {
  const offered = element.dataset.offered ? (JSON.parse(element.dataset.offered) as Offered) : undefined;
  createRoot(element).render(<SignIn offered={offered} />);
}
