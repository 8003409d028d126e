import type { StandIn } from '../../stand-in/host';
import type { Random } from '../../stand-in/message/random';
import { letter, octetsOf } from '../fast/letters';

export const FOLDERS = ['INBOX', 'Plots', 'Archive/2019'];

/** A file of a letter. */
export interface FileOf {
  subject: string;
  name: string;
  octets: Buffer;
}

/** Letters with one to three files, some flagged; gives their subjects. In a file space only larger files are compared. */
export function fill(
  host: StandIn,
  random: Random,
  keptIn: 'archive' | 'space',
): { letters: string[]; files: FileOf[] } {
  const letters: string[] = [];
  const all: FileOf[] = [];
  const [least, most] = keptIn === 'archive' ? [2_000, 40_000] : [50_000, 90_000];
  for (let number = random.between(20, 60); number > 0; number--) {
    const subject = `letter ${number}`;
    const files = Array.from({ length: random.between(1, 3) }, (_, at) => ({
      name: `picture ${number}-${at}.jpg`,
      octets: octetsOf(random.between(least, most), number * 10 + at),
    }));
    const flags = ['seen', 'flagged', 'answered'].filter(() => random.chance(0.3));
    const folder = host.mailbox.folders.get(random.pick(FOLDERS));
    host.mailbox.append(folder as never, letter(subject, files), 1_600_000_000 + random.below(100_000_000), flags);
    letters.push(subject);
    all.push(...files.map((file) => ({ subject, ...file })));
  }
  return { letters, files: all };
}
