import { look } from './look';
import { picture, refused, thumbnail } from './picture';
import { shrunk } from './shrink';
import type { Asked, Made, Task, Told } from './tasks';
import { words } from './words';

/**
 * A process of its own for what strangers' files need to be decoded: it is given octets, and knows nothing else. It has no
 * address of the database, no key, and ends when whoever started it does.
 */
process.on('disconnect', () => process.exit(0));
process.on('message', ({ id, task }: Asked) => {
  made(task)
    .catch(() => refused('damaged'))
    .then((what) => process.send?.({ id, made: what } satisfies Told));
});

async function made(task: Task): Promise<Made> {
  switch (task.make) {
    case 'thumbnail':
      return thumbnail(task.octets, task.isWhole);
    case 'picture':
      return picture(task.octets);
    case 'shrunk':
      return shrunk(task.octets, task.longest, task.keepsPlace, task.mostLeft);
    case 'look':
      return look(task.octets);
    case 'words':
      return words(task.octets, task.type);
  }
}
