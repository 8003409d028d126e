import type { Adapter, AdapterPayload } from 'oidc-provider';

/** What an authorization server keeps, in memory; times out as its payloads say. */
export class Store {
  private readonly kept = new Map<string, AdapterPayload>();

  /** The adapter of one kind of thing, as the library asks for it. */
  adapter(kind: string): Adapter {
    const key = (id: string) => `${kind} ${id}`;
    const first = (fits: (payload: AdapterPayload) => boolean) =>
      [...this.kept].find(([name, payload]) => name.startsWith(`${kind} `) && fits(payload))?.[1];
    return {
      upsert: async (id, payload) => void this.kept.set(key(id), payload),
      find: async (id) => this.kept.get(key(id)),
      findByUid: async (uid) => first((payload) => payload.uid === uid),
      findByUserCode: async (code) => first((payload) => payload.userCode === code),
      consume: async (id) => {
        const payload = this.kept.get(key(id));
        if (payload) payload.consumed = Math.floor(Date.now() / 1000);
      },
      destroy: async (id) => void this.kept.delete(key(id)),
      revokeByGrantId: async (grant) => {
        for (const [name, payload] of this.kept) if (payload.grantId === grant) this.kept.delete(name);
      },
    };
  }

  /** Lets all things of a kind have timed out. */
  expire(kind: string): void {
    for (const [name, payload] of this.kept)
      if (name.startsWith(`${kind} `)) payload.exp = Math.floor(Date.now() / 1000) - 1;
  }

  /** How many things of a kind are kept. */
  count(kind: string): number {
    return [...this.kept.keys()].filter((name) => name.startsWith(`${kind} `)).length;
  }

  clear(): void {
    this.kept.clear();
  }
}
