import type { Bag as BagFolder } from '../../archive/bag';
import { repairFile } from '../../archive/repair';
import type { Scratch } from '../../archive/scratch';
import { fromLine } from '../../core/archive/mbox';
import { decoded } from '../../mail/mime/decoded';
import { isOfOne, MailProblem } from '../../mail/problem';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { type Bag, bagById, updateBag } from '../../store/archive/bags';
import { type DamagedFile, damagedFiles, noteRepaired, noteTags } from '../../store/archive/fixity';
import { tell } from '../../store/events';
import { folderById, generationById } from '../../store/index/folders';
import { finishJob, type Job } from '../../store/jobs';
import type { Turn, WorkContext } from '../context';
import { type Fence, fenceOf } from '../fence';
import { intakeOf } from '../save/intake-of';
import { pages } from '../save/pages';
import { sealAgain } from '../save/seal';

/** Damaged files that are looked up at a time. */
const PAGE = 100;

/**
 * Repairs what is damaged of a bag from another bag, the mailbox, or the trash: only octets with the SHA-256 that was written
 * down when it was saved are taken. What has none of these stays damaged.
 */
export async function repair(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  turn: Turn,
): Promise<void> {
  const { database, archive } = context;
  const bag = await bagById(database, account.id, job.subject);
  const fenced = fenceOf(context, job);
  if (bag?.state === 'done' && bag.place === 'here') {
    const folder = archive.bag(account.id, bag.folder);
    const damaged = pages<DamagedFile>((last) => damagedFiles(database, account.id, bag.id, last?.file ?? 0, PAGE));
    for await (const file of damaged)
      for await (const octets of sourcesOf(context, account, server, file)) {
        if (!(await isRepaired(folder, archive.scratch(), file, octets))) continue;
        await fenced(async (client) => {
          await noteRepaired(client, account.id, bag.id, file.file);
          await turn.progressed(client);
        });
        break;
      }
    await repairTags(context, account, bag, folder, fenced);
    await fenced(async (client) => {
      await updateBag(client, account.id, bag.id, { problem: null });
      await tell(client, account.id, 'bag', await bagById(client, account.id, bag.id));
      await tell(client, account.id, 'level', {});
    });
  }
  await finishJob(database, job);
}

/** Ends a repair that can't go on, and says why at the bag. */
export async function failRepair(
  context: WorkContext,
  job: Job,
  problem: { kind: string; detail: string },
): Promise<void> {
  await fenceOf(
    context,
    job,
  )(async (client) => {
    await updateBag(client, job.account, job.subject, { problem });
    await tell(client, job.account, 'bag', await bagById(client, job.account, job.subject));
    await finishJob(client, job);
  });
}

async function isRepaired(
  folder: BagFolder,
  scratch: Scratch,
  file: DamagedFile,
  octets: AsyncIterable<Uint8Array>,
): Promise<boolean> {
  try {
    return await repairFile(folder, scratch, file, fromLine(file.from, file.received), octets);
  } catch (error) {
    // The server does not give this one.
    if (isOfOne(error)) return false;
    throw error;
  }
}

/** The octets of a damaged file as they are elsewhere, one place after the other. */
async function* sourcesOf(
  { database, archive }: WorkContext,
  account: Account,
  server: MailServer,
  { other, placements, part, encoding }: DamagedFile,
): AsyncGenerator<AsyncIterable<Uint8Array>> {
  const kept = other && (await archive.bag(account.id, other.bagFolder).message(other));
  if (kept) yield kept;
  for (const { generation, uid, size } of placements) {
    const { folder, uidValidity } = await generationById(database, account.id, generation);
    const stored = await folderById(database, account.id, folder);
    if (!stored) continue;
    const open = await server.open(stored.serverName).catch((error: unknown) => {
      if (error instanceof MailProblem && error.kind === 'folder-gone') return undefined;
      throw error;
    });
    if (open?.uidValidity !== uidValidity) continue;
    yield decoded(server.download({ uid, section: part, expected: size, most: size + 1 }), part ? encoding : '8bit');
  }
}

/** Writes the manifests and the index anew, where they are damaged. */
async function repairTags(
  { database }: WorkContext,
  account: Account,
  bag: Bag,
  folder: BagFolder,
  fenced: Fence,
): Promise<void> {
  if (bag.tagsDamaged.length === 0) return;
  await sealAgain(database, account.id, bag, folder, intakeOf(database, account, bag, folder));
  const tags = await folder.tagsThatDiffer();
  await fenced((client) => noteTags(client, account.id, bag.id, tags));
}
