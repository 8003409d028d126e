import { type DavClient, drained } from './client';
import { refusal } from './listing';
import { SpaceProblem } from './problem';

/**
 * Moves a file, never over another (`Overwrite: F`, RFC 4918 §10.6), and only as it was where its tag is a strong one (RFC 9110 §13.1.1).
 *
 * @param etag the tag with which it was looked at.
 * @throws SpaceProblem where the server did not say that it moved it. It may have all the same.
 */
export async function moveFile(client: DavClient, from: string, to: string, etag: string | undefined): Promise<void> {
  await change(client, 'MOVE', from, {
    ...ifMatch(etag),
    destination: `${client.origin.origin}${to}`,
    overwrite: 'F',
  });
}

/** Deletes a file, only as it was where its tag is a strong one. @throws SpaceProblem as moveFile. */
export async function deleteFile(client: DavClient, path: string, etag: string | undefined): Promise<void> {
  await change(client, 'DELETE', path, ifMatch(etag));
}

/**
 * Makes a folder (RFC 4918 §9.3).
 *
 * @returns whether it was made; false where something is there already.
 */
export async function makeFolder(client: DavClient, path: string): Promise<boolean> {
  const answer = await client.ask('MKCOL', path);
  await drained(answer.body);
  if (answer.status === 201) return true;
  if (answer.status === 405) return false;
  throw refusedChange(answer.status, answer.headers['retry-after']);
}

/** A weak tag matches nothing (RFC 9110 §8.8.3.2), so it is not sent. */
function ifMatch(etag: string | undefined): { 'if-match'?: string } {
  return etag?.startsWith('"') ? { 'if-match': etag } : {};
}

async function change(
  client: DavClient,
  method: 'MOVE' | 'DELETE',
  path: string,
  headers: Record<string, string>,
): Promise<void> {
  const answer = await client.ask(method, path, { headers });
  await drained(answer.body);
  // 207 tells of a part that failed (RFC 4918 §9.9.4).
  if (answer.status !== 200 && answer.status !== 201 && answer.status !== 204)
    throw refusedChange(answer.status, answer.headers['retry-after']);
}

function refusedChange(status: number, retryAfter: string | undefined): SpaceProblem {
  if (status === 405 || status === 501) return new SpaceProblem('forbidden', 'The server does not allow it.');
  if (status === 409) return new SpaceProblem('folder-gone', 'The folder into which it was to go is not there.');
  // Of a move: the place that it goes to is refused (RFC 4918 §9.9.4).
  if (status === 502) return new SpaceProblem('command-refused', 'The server does not move it there.');
  return status < 300
    ? new SpaceProblem('command-refused', 'The server did only a part of it.')
    : refusal(status, retryAfter);
}
