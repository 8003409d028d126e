/** Items in batches of at most so many, and of about so many octets: one that is larger by itself is a batch of its own. */
export async function* batches<T extends { size: number }>(
  items: AsyncIterable<T> | Iterable<T>,
  most: number,
  octets: number,
): AsyncGenerator<T[]> {
  let batch: T[] = [];
  let sum = 0;
  for await (const item of items) {
    if (batch.length >= most || (batch.length > 0 && sum + item.size > octets)) {
      yield batch;
      batch = [];
      sum = 0;
    }
    batch.push(item);
    sum += item.size;
  }
  if (batch.length > 0) yield batch;
}
