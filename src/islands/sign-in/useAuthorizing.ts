import { useEffect, useState } from 'react';
import { standsFor } from '../../core/authorization/hosts';
import { call } from '../../ui/api/call';

/** The hosts at which this instance can ask for an authorization, `*.` before a name for all below it. */
export function useAuthorizing(): readonly string[] {
  const [hosts, setHosts] = useState<readonly string[]>([]);
  useEffect(() => {
    void call<{ hosts: string[] }>('/authorizations').then(
      ({ hosts }) => setHosts(hosts),
      () => undefined,
    );
  }, []);
  return hosts;
}

export function isCovered(typed: string, hosts: readonly string[]): boolean {
  const host = typed.trim().toLowerCase().replace(/\.$/, '');
  return hosts.some((pattern) => standsFor(pattern, host));
}
