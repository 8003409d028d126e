import type { Database } from '../../store/database';
import { eventsAfter, lastEventId, listen, type StoredEvent } from '../../store/events';
import { invalid } from '../problem';
import { route } from '../route';

/** A comment so often keeps proxies from closing a silent stream. */
const KEEP_ALIVE_MS = 20_000;

/** Wakes every stream of this process when anything is told; one listening connection serves all. */
class Bell {
  private readonly hearers = new Set<() => void>();
  private listening = false;

  constructor(private readonly database: Database) {}

  add(hearer: () => void): () => void {
    this.hearers.add(hearer);
    if (!this.listening) {
      this.listening = true;
      listen(this.database, 'events', () => {
        for (const hear of this.hearers) hear();
      });
    }
    return () => this.hearers.delete(hearer);
  }
}

let bell: Bell | undefined;

const frame = ({ id, kind, data }: StoredEvent) => `id: ${id}\nevent: ${kind}\ndata: ${JSON.stringify(data)}\n\n`;

export const events = route({
  method: 'GET',
  path: '/accounts/{account}/events',
  summary: 'Server-sent events `scan`, `run`, `level`, `index` and `search`; Last-Event-ID catches up.',
  async handle({ environment: { database }, account, request }) {
    const given = request.headers.get('last-event-id');
    if (given !== null && !/^\d{1,15}$/.test(given))
      throw invalid('Last-Event-ID is no number.', [{ field: 'Last-Event-ID' }]);
    let after = given === null ? await lastEventId(database) : Number(given);
    bell ??= new Bell(database);
    const encoder = new TextEncoder();
    let stop = () => {};
    const body = new ReadableStream<Uint8Array>({
      start(controller) {
        let busy = false;
        let again = false;
        const send = async () => {
          again = true;
          if (busy) return;
          busy = true;
          while (again) {
            again = false;
            const told = await eventsAfter(database, [account.id], after);
            for (const event of told) controller.enqueue(encoder.encode(frame(event)));
            after = told.at(-1)?.id ?? after;
            if (told.length > 0) again = true;
          }
          busy = false;
        };
        const quietly = () => void send().catch(() => stop());
        controller.enqueue(encoder.encode('retry: 2000\n\n'));
        const remove = (bell as Bell).add(quietly);
        const keeper = setInterval(() => controller.enqueue(encoder.encode(': still here\n\n')), KEEP_ALIVE_MS);
        stop = () => {
          clearInterval(keeper);
          remove();
          try {
            controller.close();
          } catch {
            // The reader closed it already.
          }
        };
        request.signal.addEventListener('abort', stop);
        quietly();
      },
      cancel() {
        stop();
      },
    });
    return new Response(body, {
      headers: { 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' },
    });
  },
});
