import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Proof } from '../Proof';
import { ApiProblem } from './call';

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

/** What every page that reads the API stands in. */
export function ApiProvider({ children }: { children: ReactNode }) {
  return (
    <QueryClientProvider client={client}>
      {children}
      <Proof />
    </QueryClientProvider>
  );
}
