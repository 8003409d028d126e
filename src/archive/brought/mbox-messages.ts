import { unquoted } from '../../core/archive/mbox';
import { withMailLineEnds } from '../../core/brought/line-ends';
import type { Quoting } from '../../core/brought/quoting';
import type { Region } from '../region';
import { formOf, messagesOf } from './mbox';
import type { BroughtItem } from './message';
import { CutOff } from './unreadable';

/**
 * The messages of an mbox file that others wrote, as they were before they were written there, as far as that can be told.
 *
 * @param asked how it is quoted, where a person knows.
 * @param found is told how it is quoted.
 */
export async function* mboxMessages(
  file: Region,
  folder: string,
  asked: Quoting | undefined,
  found: (quoting: Quoting) => void,
): AsyncGenerator<BroughtItem> {
  const form = await formOf(file);
  const quoting = asked ?? form.quoting;
  found(quoting);
  for await (const { from, to, received, isCut } of messagesOf(file, form.lengths)) {
    const octets = () => file.read(from, to);
    async function* read() {
      yield* withMailLineEnds(quoting === 'mboxrd' ? unquoted(octets()) : octets());
      if (isCut) throw new CutOff();
    }
    yield { message: { folder, received, flags: null, keywords: [], size: to - from, read }, done: to / file.size };
  }
}
