import type { Level } from '../../contract/types';

/** What must go to reach the target: octets, or messages where the target is a number of them; null where none is known. */
export function mustGo(level: Level): { bytes: number } | { messages: number } | null {
  const { target, targetBytes, used } = level;
  if ('messages' in target) {
    const messages = level.messagesUsed ?? level.mail.messages + level.trash.messages;
    return { messages: Math.max(0, messages - target.messages) };
  }
  return targetBytes === null ? null : { bytes: Math.max(0, used - targetBytes) };
}
