import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { createContext, useContext } from 'react';
import type { HostMailboxes, Operator } from '../../contract/types';
import { call } from '../../ui/api/call';

/** Whose mailboxes are in view. */
export const OperatorContext = createContext<Operator | undefined>(undefined);

export function useOperator(): Operator & { base: string } {
  const operator = useContext(OperatorContext);
  if (!operator) throw new Error('There is no operator around this view.');
  return { ...operator, base: `/operators/${operator.id}` };
}

/** Nothing tells this page of changes: it asks often while mailboxes are measured, else now and then. */
const SOON_MS = 1_500;
const LATER_MS = 30_000;

export function useHostMailboxes() {
  const { id, base } = useOperator();
  return useQuery({
    queryKey: ['host', id],
    queryFn: () => call<HostMailboxes>(`${base}/mailboxes`),
    refetchInterval: ({ state }) => ((state.data?.measuring ?? 0) > 0 ? SOON_MS : LATER_MS),
  });
}

/** A call that changes something of the mailboxes, which are then asked for anew. */
export function useHostChange<Body, Answer = unknown>(pathOf: (body: Body) => string, method: string) {
  const { id, base } = useOperator();
  const client = useQueryClient();
  return useMutation({
    mutationFn: (body: Body) => call<Answer>(`${base}${pathOf(body)}`, { method, body }),
    onSuccess: () => client.invalidateQueries({ queryKey: ['host', id] }),
  });
}
