import { type DavClient, drained, problemOf } from './client';
import { askResource, type Resource, refusal } from './listing';
import { unreadable } from './multistatus';
import { SpaceProblem } from './problem';

/**
 * The octets of a file, as they come. What was cut off, or is not as long as was said, throws behind what came.
 *
 * @param bytes how many it has.
 * @throws SpaceProblem `gone` where it is not there.
 */
export async function* download(client: DavClient, path: string, bytes: number): AsyncGenerator<Buffer> {
  const answer = await client.ask('GET', path, { headers: { 'accept-encoding': 'identity' } });
  try {
    if (answer.status !== 200) {
      await drained(answer.body);
      throw refusal(answer.status, answer.headers['retry-after']);
    }
    if (answer.headers['content-encoding'] && answer.headers['content-encoding'] !== 'identity')
      throw unreadable('is encoded, though it was asked for as it is');
    let came = 0;
    for await (const piece of answer.body as AsyncIterable<Buffer>) {
      came += piece.length;
      if (came > bytes) throw new SpaceProblem('changed', 'It is not as it was.');
      yield piece;
    }
    if (came < bytes) throw new SpaceProblem('changed', 'It is not as it was.');
  } catch (error) {
    throw problemOf(error, client.origin.host);
  } finally {
    answer.body.destroy();
  }
}

/**
 * The first octets of a file: all, where it has no more.
 *
 * @param bytes how many it has. @param most octets that are read.
 * @throws SpaceProblem as download.
 */
export async function downloadFirst(client: DavClient, path: string, bytes: number, most: number): Promise<Buffer> {
  const pieces: Buffer[] = [];
  if (bytes <= most) {
    for await (const piece of download(client, path, bytes)) pieces.push(piece);
    return Buffer.concat(pieces);
  }
  const range = `bytes=0-${most - 1}`;
  const answer = await client.ask('GET', path, { headers: { 'accept-encoding': 'identity', range } });
  try {
    // A server may know no ranges (RFC 9110 §14.2): what comes too much is not read.
    if (answer.status !== 206 && answer.status !== 200) {
      await drained(answer.body);
      throw refusal(answer.status, answer.headers['retry-after']);
    }
    let came = 0;
    for await (const piece of answer.body as AsyncIterable<Buffer>) {
      pieces.push(piece);
      came += piece.length;
      if (came >= most) break;
    }
    return Buffer.concat(pieces).subarray(0, most);
  } catch (error) {
    throw problemOf(error, client.origin.host);
  } finally {
    answer.body.destroy();
  }
}

/** What the server says of a file now; undefined where it is not there. */
export async function look(client: DavClient, path: string): Promise<Resource | undefined> {
  try {
    return await askResource(client, path);
  } catch (error) {
    if (error instanceof SpaceProblem && error.kind === 'gone') return undefined;
    throw error;
  }
}
