import type { Placed } from '../mailbox/folder';
import { BadCommand, type Token, textOf } from './grammar';

const SYSTEM_FLAGS = ['Seen', 'Answered', 'Flagged', 'Deleted', 'Draft'];

export function flagList(placed: Placed): string {
  const names = [...placed.flags].map((flag) => {
    const system = SYSTEM_FLAGS.find((known) => known.toLowerCase() === flag);
    return system ? `\\${system}` : flag;
  });
  return `(${names.join(' ')})`;
}

/** The name under which a flag is kept: system flags lower case without backslash. */
export function flagOf(token: Token): string {
  const name = textOf(token);
  if (!name.startsWith('\\')) return name;
  const system = name.slice(1).toLowerCase();
  if (!SYSTEM_FLAGS.some((known) => known.toLowerCase() === system)) throw new BadCommand('There is no such flag');
  return system;
}
