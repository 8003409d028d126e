import type { Measurement } from '../../core/host/figures';
import type { FolderRole } from '../../core/mailbox/folders';
import { roleOf } from '../../core/mailbox/roles';
import { MailProblem } from '../../mail/problem';
import type { ListedFolder, MailServer } from '../../mail/server';

/**
 * Measures a mailbox by quota and STATUS alone: nothing in it is read, no folder is opened. Two commands where the server has
 * LIST-STATUS (RFC 5819), and one for what nobody read.
 */
export async function measure(server: MailServer, at: Date): Promise<Measurement> {
  const [folders, quota, inbox] = await Promise.all([server.folders(), server.quota(), server.status('INBOX', true)]);
  if (!inbox) throw new MailProblem('unreadable-answer', 'The server lists the inbox, and gives no figures of it.');
  const marked = new Set(folders.flatMap(({ role }) => (role ? [role] : [])));
  const counting = folders.filter(({ repeats, selectable }) => selectable && !repeats);
  const withRole = (role: FolderRole) =>
    sumOf(counting.filter((folder) => roleOf(folder, null, marked)?.role === role));
  return {
    at,
    used: quota?.used ?? null,
    limit: quota?.limit ?? null,
    messages: quota?.messages ?? null,
    messageLimit: quota?.messageLimit ?? null,
    counted: sumOf(counting),
    inbox: { messages: inbox.messages, unseen: inbox.unseen ?? null },
    trash: withRole('trash'),
    junk: withRole('junk'),
  };
}

/** Octets are null where any folder's are not told. */
function sumOf(folders: readonly ListedFolder[]): { messages: number; bytes: number | null } {
  let messages = 0;
  let bytes: number | null = 0;
  for (const { status } of folders) {
    messages += status?.messages ?? 0;
    bytes = bytes === null || status?.bytes == null ? null : bytes + status.bytes;
  }
  return { messages, bytes };
}
