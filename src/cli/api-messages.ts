import { csvLine } from '../core/sheets/line';

/** A message as the API lists it. */
interface Listed {
  id: number;
  folder: string;
  uid: number;
  from: { name: string; address: string } | null;
  subject: string;
  date: string | null;
  received: string;
  size: number;
  category: string;
  flags: string[];
  files: { name: string }[];
}

/** A page of messages, and the cursor behind it. */
export interface MessagePage {
  messages: Listed[];
  next?: string;
}

const HEAD = 'id,folder,uid,from,name,subject,date,received,size,category,flags,files';

/**
 * Every message that matches, a page at a time, so that no more than a page is held: as CSV (RFC 4180) under its heads, or as
 * JSON, one message a line.
 *
 * @param page asks for the page behind a cursor.
 */
export async function* messageLines(
  page: (after: string | undefined) => Promise<MessagePage>,
  asJson: boolean,
): AsyncGenerator<string> {
  if (!asJson) yield `${HEAD}\r\n`;
  let after: string | undefined;
  do {
    const { messages, next } = await page(after);
    for (const message of messages) yield asJson ? `${JSON.stringify(message)}\n` : `${csvLine(cellsOf(message))}\r\n`;
    after = next;
  } while (after !== undefined);
}

function cellsOf({ id, folder, uid, from, subject, date, received, size, category, flags, files }: Listed): unknown[] {
  const names = files.map(({ name }) => name).join('; ');
  const sender = [from?.address ?? '', from?.name ?? ''];
  return [id, folder, uid, ...sender, subject, date ?? '', received, size, category, flags.join(' '), names];
}
