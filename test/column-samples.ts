import { CATEGORIES, SIGNS } from '../src/core/categories/categories';
import { buildColumns, type Columns } from '../src/core/columns/columns';
import type { FileColumns, KeptFiles } from '../src/core/columns/file-columns';
import { fileId } from '../src/core/files/file';
import { FILE_KINDS } from '../src/core/files/kinds';
import { Random } from '../stand-in/message/random';

const DAY = 86_400;

/**
 * Columns of a made-up mailbox with the shape of real ones (common practice, no source): sizes log-normal with a long
 * tail, senders and folders by rank, ten years that grow.
 */
export function sampleColumns(count: number, seed = 1, senders = Math.max(3, Math.round(count / 80))): Columns {
  const random = new Random(seed);
  const unit = () => random.next();
  const ranked = (of: number) => Math.floor(of * unit() ** 3);
  const normal = () => Math.sqrt(-2 * Math.log(1 - unit())) * Math.cos(2 * Math.PI * unit());
  const end = Date.UTC(2026, 10, 24) / 1000;
  const rows = Array.from({ length: count }, (_, row) => {
    const sender = ranked(senders);
    const size = Math.round(Math.min(60e6, Math.exp(9.2 + 1.9 * normal())) + 300);
    const received = Math.floor(end - 3650 * DAY * unit() ** 1.5);
    const files = size > 60_000 ? 1 + random.below(3) : 0;
    return { row, sender, size, received, files };
  });
  const numbers = <T>(pick: (row: (typeof rows)[number]) => T) => rows.map(pick);
  return buildColumns({
    numbers: {
      id: numbers(({ row }) => row * 2 + 1),
      size: numbers(({ size }) => size),
      received: numbers(({ received }) => received),
      date: numbers(({ received }) => received - random.below(3 * DAY)),
      flags: numbers(() => random.below(8)),
      category: numbers(({ sender }) => sender % CATEGORIES.length),
      kinds: numbers(({ files }) => (files === 0 ? 0 : 1 << random.below(9))),
      files: numbers(({ files }) => files),
      attached: numbers(({ files, size }) => (files === 0 ? 0 : size - 2_000)),
      thread: numbers(() => random.below(count)),
      signs: numbers(({ sender }) => (sender % 3 === 0 ? SIGNS.listUnsubscribe : 0)),
    },
    authorName: numbers(({ sender }) => `Sender ${sender}`),
    authorAddress: numbers(({ sender }) => `post${sender}@house${sender % 97}.example`),
    texts: {
      folder: numbers(() => `Folder ${ranked(40)}`),
      list: numbers(({ sender }) => (sender % 9 === 0 ? `list${sender}.example` : '')),
      recipients: numbers(({ row, sender }) =>
        row % 7 === 0
          ? JSON.stringify(
              [sender, sender + 1].map((to) => ({
                name: `Sender ${to}`,
                address: `post${to}@house${to % 97}.example`,
                domain: `house${to % 97}.example`,
              })),
            )
          : '',
      ),
      keywords: numbers(() => (random.below(30) === 0 ? '$Forwarded' : '')),
    },
  });
}

/** Made-up files of a made-up mailbox: of every message that has any, its octets parted among them. */
export function sampleFiles(columns: Columns, seed = 1): FileColumns {
  const random = new Random(seed);
  const files: { id: number; placement: number; size: number; kind: number; copy: number; name: string }[] = [];
  for (let row = 0; row < columns.length; row++) {
    const count = columns.files[row] as number;
    const attached = columns.attached[row] as number;
    for (let ordinal = 0; ordinal < count; ordinal++) {
      const isTwin = random.below(4) === 0;
      files.push({
        id: fileId(row + 1, ordinal),
        placement: columns.id[row] as number,
        size: isTwin ? 70_000 : Math.floor(attached / count),
        kind: isTwin ? 0 : random.below(FILE_KINDS.length),
        copy: random.below(3),
        name: isTwin ? 'Twin.jpg' : `file ${random.below(1_000)}.bin`,
      });
    }
  }
  const column = <T>(pick: (file: (typeof files)[number]) => T) => files.map(pick);
  return {
    length: files.length,
    id: Float64Array.from(column(({ id }) => id)),
    placement: Uint32Array.from(column(({ placement }) => placement)),
    size: Float64Array.from(column(({ size }) => size)),
    kind: Uint8Array.from(column(({ kind }) => kind)),
    copy: Uint8Array.from(column(({ copy }) => copy)),
    name: column(({ name }) => name),
    changed: new Float64Array(files.length),
    folder: files.map(() => ''),
  };
}

/** Files of a file space, in the falling order of their numbers. */
export function sampleKept(length: number, seed = 1): KeptFiles {
  const random = new Random(seed);
  const column = <T>(make: (at: number) => T) => Array.from({ length }, (_, at) => make(at));
  return {
    length,
    id: Float64Array.from(column((at) => 3 * (length - at))),
    size: Float64Array.from(column(() => random.below(400_000))),
    kind: Uint8Array.from(column(() => random.below(FILE_KINDS.length))),
    name: column((at) => (at % 9 === 0 ? 'Twin.jpg' : `kept ${at}.bin`)),
    changed: Float64Array.from(column(() => 1_600_000_000 + random.below(190_000_000))),
    folder: column((at) => `files.example${at % 3 === 0 ? '' : `/Plans${at % 3 === 1 ? '' : '/2024'}`}`),
  };
}
