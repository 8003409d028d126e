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
 * Puts a file where nothing is (`If-None-Match: *`, RFC 9110 §13.1.2).
 *
 * @param octets gives them from the first on, whenever it is asked.
 * @throws SpaceProblem `changed` where something is there; otherwise as moveFile: the file may be there all the same, or a part of it.
 */
export async function putFile(
  client: DavClient,
  path: string,
  bytes: number,
  octets: () => AsyncIterable<Uint8Array>,
): Promise<void> {
  // What it is the server tells by its name, as of any other file: what a message says of it is not handed on.
  const headers = { 'if-none-match': '*', 'content-type': 'application/octet-stream' };
  const answer = await client.ask('PUT', path, { headers, body: { bytes, octets } });
  await drained(answer.body);
  if (answer.status !== 201 && answer.status !== 204 && answer.status !== 200)
    throw refusedChange(answer.status, answer.headers['retry-after']);
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
  // Longer than the server takes (RFC 9110 §15.5.14).
  if (status === 413) return new SpaceProblem('no-room', 'The server does not take files of this size.');
  // Of a move: the place that it goes to is refused (RFC 4918 §9.9.4).
  if (status === 502) return new SpaceProblem('command-refused', 'The server does not move it there.');
  return status < 300
    ? new SpaceProblem('command-refused', 'The server did only a part of it.')
    : refusal(status, retryAfter);
}
