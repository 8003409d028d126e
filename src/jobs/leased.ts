import type { MailServer } from '../mail/server';
import { LeaseLost } from '../store/jobs';

/**
 * A server to which nothing more is sent once the lease may have gone to another worker: a process that was stopped for a
 * while and goes on must not carry out what somebody else has settled meanwhile.
 *
 * @param holds whether the lease is surely held, by the clock of this process.
 */
export function leased(server: MailServer, holds: () => boolean): MailServer {
  return new Proxy(server, {
    get(target, name) {
      const member: unknown = Reflect.get(target, name, target);
      if (typeof member !== 'function') return member;
      return (...input: unknown[]) => {
        if (name !== 'close' && !holds()) throw new LeaseLost();
        return member.apply(target, input);
      };
    },
  });
}
