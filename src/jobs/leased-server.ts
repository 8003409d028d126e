import type { AppendedMessage, MailServer } from '../mail/server';
import { LeaseLost } from '../store/jobs';

/**
 * A server to which nothing more is sent once the lease may have gone to another worker: a process that was stopped for a
 * while and goes on must not carry out what somebody else has recovered in the meantime.
 *
 * @param holds whether the lease is surely held, by the clock of this process.
 * @param answered is called for every answer, or part of one.
 */
export function leased(server: MailServer, holds: () => boolean, answered: () => void): MailServer {
  return new Proxy(server, {
    get(target, name) {
      const member: unknown = Reflect.get(target, name, target);
      if (typeof member !== 'function') return member;
      return (...input: unknown[]) => {
        if (name !== 'close' && !holds()) throw new LeaseLost();
        // A message that is on its way when the lease goes must not arrive.
        if (name === 'append') input[1] = whileHeld(input[1] as AppendedMessage, holds);
        const result: unknown = member.apply(target, input);
        if (result instanceof Promise) return result.finally(answered);
        if (isStream(result)) return told(result, answered);
        return result;
      };
    },
  });
}

function isStream(value: unknown): value is AsyncIterable<unknown> {
  return typeof value === 'object' && value !== null && Symbol.asyncIterator in value;
}

async function* told(stream: AsyncIterable<unknown>, answered: () => void): AsyncGenerator {
  for await (const item of stream) {
    answered();
    yield item;
  }
}

function whileHeld(message: AppendedMessage, holds: () => boolean): AppendedMessage {
  return {
    ...message,
    async *read() {
      for await (const piece of message.read()) {
        if (!holds()) throw new LeaseLost();
        yield piece;
      }
    },
  };
}
