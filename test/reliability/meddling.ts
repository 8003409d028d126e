import { collectionOf } from '../../src/core/space/path';
import type { Random } from '../../stand-in/message/random';
import type { TrialReport } from './trial';
import type { WatchedTree } from './watched-tree';

/** Another program changes something in a file space. */
export function meddle(tree: WatchedTree, random: Random, report: TrialReport): void {
  const path = random.pick([...tree.files.keys()]);
  if (path === undefined) return;
  const act = random.pick(['remove', 'put', 'move', 'new'] as const);
  report.story.push(`others ${act} ${path}`);
  const text = Buffer.from(`other ${tree.acts.length} `.repeat(random.between(41, 90)));
  tree.asOther(() => {
    if (act === 'remove') tree.remove(path);
    else if (act === 'put') tree.put(path, text, 'text/plain');
    else if (act === 'move') tree.move(path, `${collectionOf(path)}moved-${tree.acts.length}`);
    else {
      // Where something lay before, if anything did.
      const gone = tree.acts.map((one) => one.path).filter((one) => !tree.files.has(one));
      tree.put(random.pick(gone) ?? `${collectionOf(path)}new-${tree.acts.length}`, text, 'text/plain');
    }
  });
}
