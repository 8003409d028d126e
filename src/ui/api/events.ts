/** Those of the server, and `opened`: the stream is there, and what happened before was heard by nobody. */
export type EventKind =
  | 'scan'
  | 'run'
  | 'level'
  | 'index'
  | 'search'
  | 'bag'
  | 'repeats'
  | 'space'
  | 'upload'
  | 'opened';

export interface LiveEvent {
  kind: EventKind;
  data: unknown;
}

const KINDS: Exclude<EventKind, 'opened'>[] = [
  'scan',
  'run',
  'level',
  'index',
  'search',
  'bag',
  'repeats',
  'space',
  'upload',
];

/**
 * Hears the events of an account. All tabs share one stream: the tab that holds the lock reads it and tells the others,
 * since a browser opens six connections to one origin and no more.
 *
 * @returns stops hearing.
 */
export function subscribe(account: number, heard: (event: LiveEvent) => void): () => void {
  const name = `tamsel-events-${account}`;
  const channel = new BroadcastChannel(name);
  channel.onmessage = ({ data }: MessageEvent<LiveEvent>) => heard(data);
  let release: () => void = () => {};
  const released = new Promise<void>((resolve) => {
    release = resolve;
  });
  const given = new AbortController();
  navigator.locks
    .request(name, { signal: given.signal }, async () => {
      const source = new EventSource(`/api/accounts/${account}/events`);
      const say = (event: LiveEvent) => {
        heard(event);
        channel.postMessage(event);
      };
      source.addEventListener('open', () => say({ kind: 'opened', data: null }));
      for (const kind of KINDS) {
        source.addEventListener(kind, (message: MessageEvent<string>) =>
          say({ kind, data: JSON.parse(message.data) as unknown }),
        );
      }
      await released;
      source.close();
    })
    .catch(() => {
      // Aborted while it waited: another tab reads the stream.
    });
  return () => {
    given.abort();
    release();
    channel.close();
  };
}
