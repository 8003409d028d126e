import { createRoot } from 'react-dom/client';
import { ApiProvider } from '../../ui/api/client';
import { Accounts } from './Accounts';

export function mount(element: HTMLElement): void {
  createRoot(element).render(
    <ApiProvider>
      <Accounts />
    </ApiProvider>,
  );
}
