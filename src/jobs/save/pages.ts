/** Items of a list that is read page by page, each page behind the last item, and while the one before it is looked at. */
export async function* pages<T>(page: (last: T | undefined) => Promise<T[]>): AsyncGenerator<T> {
  let coming = page(undefined);
  for (let read = await coming; read.length > 0; read = await coming) {
    coming = page(read.at(-1));
    // Whoever waits for it hears of a failure.
    coming.catch(() => undefined);
    yield* read;
  }
}
