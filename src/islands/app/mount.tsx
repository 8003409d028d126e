import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { createRoot } from 'react-dom/client';
import { ApiProblem } from '../../ui/api/call';
import { App } from './App';

/** A problem is an answer, not an accident: asking again changes nothing. */
const client = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (failures, error) => !(error instanceof ApiProblem) && failures < 3,
      staleTime: 5_000,
      refetchOnWindowFocus: false,
    },
  },
});

export function mount(element: HTMLElement): void {
  createRoot(element).render(
    <QueryClientProvider client={client}>
      <App />
    </QueryClientProvider>,
  );
}
