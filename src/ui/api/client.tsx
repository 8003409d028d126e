import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import type { FirstFigures } from '../../contract/types';
import { Proof } from '../Proof';
import { ApiProblem } from './call';

function clientWith(first: Partial<FirstFigures> | undefined): QueryClient {
  const client = new QueryClient({
    defaultOptions: {
      queries: {
        // A problem is an answer, not an accident: asking again changes nothing.
        retry: (failures, error) => !(error instanceof ApiProblem) && failures < 3,
        staleTime: 5_000,
        refetchOnWindowFocus: false,
      },
    },
  });
  const { accounts, account, settings, level, lots, scan } = first ?? {};
  if (accounts) client.setQueryData(['session'], { accounts });
  const own = { settings, level, lots, scan };
  for (const [key, data] of Object.entries(own)) if (data && account) client.setQueryData([key, account], data);
  return client;
}

/** What every page that reads the API stands in. `first` is what the server has answered already. */
export function ApiProvider({ first, children }: { first?: Partial<FirstFigures> | undefined; children: ReactNode }) {
  const [client] = useState(() => clientWith(first));
  return (
    <QueryClientProvider client={client}>
      {children}
      <Proof />
    </QueryClientProvider>
  );
}
