import type { Database } from '../../store/database';
import { eventsAfter, lastEventId, type StoredEvent } from '../../store/events';
import { type Identity, stillSees } from '../identity';
import { invalid } from '../problem';
import { route } from '../route';
import { type Stream, Streams } from '../streams';

/** A comment so often keeps proxies from closing a silent stream; as often it is looked whether the session has ended. */
const KEEP_ALIVE_MS = 20_000;
/** Octets that a reader may leave unread before its stream is closed. It comes again, and catches up. */
const MAX_UNREAD = 2 ** 20;

let streams: Streams | undefined;

const frame = ({ id, kind, data }: StoredEvent) => `id: ${id}\nevent: ${kind}\ndata: ${JSON.stringify(data)}\n\n`;

export const streamEvents = route({
  method: 'GET',
  formats: ['text/event-stream'],
  path: '/accounts/{account}/events',
  summary:
    'Sends server-sent events: `scan`, `run`, `level`, `index` and `search`. `Last-Event-ID` catches up on missed ones.',
  async handle({ environment: { database }, account, identity, request }) {
    const given = request.headers.get('last-event-id');
    if (given !== null && !/^\d{1,15}$/.test(given))
      throw invalid('Last-Event-ID is no number.', [{ field: 'Last-Event-ID' }]);
    const after = given === null ? await lastEventId(database) : Number(given);
    streams ??= new Streams(database);
    const sender = new Sender(database, account.id, identity as Identity, after);
    const remove = streams.add(identity as Identity, sender);
    return new Response(sender.body(request.signal, remove), {
      headers: { 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' },
    });
  },
});

/** Sends what happens in an account to one reader, until either side or the end of the session closes it. */
class Sender implements Stream {
  private controller: ReadableStreamDefaultController<Uint8Array> | undefined;
  private readonly encoder = new TextEncoder();
  private stop = () => {};
  private busy = false;
  private again = false;

  constructor(
    private readonly database: Database,
    readonly account: number,
    private readonly identity: Identity,
    private after: number,
  ) {}

  body(signal: AbortSignal, remove: () => void): ReadableStream<Uint8Array> {
    return new ReadableStream<Uint8Array>(
      {
        start: (controller) => {
          this.controller = controller;
          const keeper = setInterval(() => {
            this.write(': still here\n\n');
            this.doubt();
          }, KEEP_ALIVE_MS);
          this.stop = () => {
            clearInterval(keeper);
            remove();
            this.controller = undefined;
            try {
              controller.close();
            } catch {
              // The reader closed it already.
            }
          };
          signal.addEventListener('abort', this.stop);
          this.write('retry: 2000\n\n');
          this.wake();
        },
        cancel: () => this.stop(),
      },
      new ByteLengthQueuingStrategy({ highWaterMark: MAX_UNREAD }),
    );
  }

  wake(): void {
    void this.send().catch(() => this.stop());
  }

  doubt(): void {
    const seen = stillSees(this.database, this.identity, this.account);
    void seen.then((sees) => sees || this.stop()).catch(() => this.stop());
  }

  private async send(): Promise<void> {
    this.again = true;
    if (this.busy) return;
    this.busy = true;
    try {
      while (this.again && this.controller) {
        this.again = false;
        const told = await eventsAfter(this.database, [this.account], this.after);
        for (const event of told) this.write(frame(event));
        this.after = told.at(-1)?.id ?? this.after;
        this.again ||= told.length > 0;
      }
    } finally {
      this.busy = false;
    }
  }

  private write(text: string): void {
    if (!this.controller) return;
    this.controller.enqueue(this.encoder.encode(text));
    if ((this.controller.desiredSize ?? 0) <= 0) this.stop();
  }
}
