import type { Bag as BagFolder, BaggedFile, BagInfo } from '../../archive/bag';
import { oneLine } from '../../core/text';
import { type Bag, partsOf } from '../../store/archive/bags';
import type { Database } from '../../store/database';
import { FileIntake } from './file-intake';
import type { Intake } from './intake';

/** What a bag says of itself (RFC 8493 §2.2.2). */
export function infoOf({ id, label }: Bag, date: Date): BagInfo {
  return {
    'Bagging-Date': date.toISOString().slice(0, 10),
    'External-Identifier': `${id}`,
    'External-Description': oneLine(label),
  };
}

/** Characters of the index that are written together. */
const LINES_TOGETHER = 256 * 1024;

/** The index of a bag: a line of JSON each (RFC 8259). */
export async function* indexLines(intake: Intake): AsyncGenerator<Buffer> {
  let lines = '';
  for await (const item of intake.index()) {
    lines += `${JSON.stringify(item)}\n`;
    if (lines.length < LINES_TOGETHER) continue;
    yield Buffer.from(lines);
    lines = '';
  }
  yield Buffer.from(lines);
}

/** Writes the manifests and the index of a bag anew, by what was written down when its files were saved. */
export async function sealAgain(
  database: Database,
  account: number,
  bag: Bag,
  folder: BagFolder,
  intake: Intake,
): Promise<void> {
  async function* files(): AsyncGenerator<BaggedFile> {
    if (intake instanceof FileIntake) yield* intake.files();
    else for (const part of await partsOf(database, account, bag.id)) yield part;
  }
  await folder.sealAgain(files(), indexLines(intake), infoOf(bag, bag.endedAt ?? new Date()));
}
