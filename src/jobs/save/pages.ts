/** Items of a list that is read page by page, each page behind the last item. */
export async function* pages<T>(page: (last: T | undefined) => Promise<T[]>): AsyncGenerator<T> {
  for (let read = await page(undefined); read.length > 0; read = await page(read.at(-1))) yield* read;
}
