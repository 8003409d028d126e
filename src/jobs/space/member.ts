import { asCollection, BadPath, normalPath } from '../../core/space/path';
import type { Resource } from '../../dav/listing';
import type { Member } from '../../store/space/listing';

/**
 * What a server says of a file or folder, as the tables keep it.
 *
 * @param isInShared whether the folder in which it lies is what others share.
 * @param principal who has signed in, as the server names them.
 */
export function memberOf(
  { path, isCollection, bytes, type, etag, modified, owner }: Resource,
  isInShared: boolean,
  principal: string | undefined,
): Member {
  return {
    ...{ path, isCollection, bytes, etag: etag ?? null, modified: modified ?? null },
    // Without parameters (RFC 9110 §8.3.1).
    type: (type ?? '').replace(/;.*/s, '').trim().toLowerCase(),
    shared: isInShared || isOfOther(owner, principal),
  };
}

/** Whether the server names somebody else as the owner than who has signed in; where it names nobody, it is who has signed in. */
function isOfOther(owner: string | undefined, principal: string | undefined): boolean {
  if (!owner || !principal) return false;
  try {
    return asCollection(normalPath(owner)) !== asCollection(normalPath(principal));
  } catch (error) {
    if (error instanceof BadPath) return owner !== principal;
    throw error;
  }
}
