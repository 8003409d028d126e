import { createRoot } from 'react-dom/client';
import { ApiProvider } from '../../ui/api/client';
import { App } from './App';

export function mount(element: HTMLElement): void {
  createRoot(element).render(
    <ApiProvider>
      <App />
    </ApiProvider>,
  );
}
