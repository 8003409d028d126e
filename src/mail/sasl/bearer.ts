/** Whose mailbox, where, and the access token that is shown for it. */
interface Bearer {
  user: string;
  host: string;
  port: number;
  token: string;
}

/** The message of OAUTHBEARER (RFC 7628 §3.1): a GS2 header, then fields that end in ^A, as the message does. */
export function oauthBearer({ user, host, port, token }: Bearer): string {
  return `n,a=${saslName(user)},\x01host=${host}\x01port=${port}\x01auth=Bearer ${token}\x01\x01`;
}

/** The message of XOAUTH2; common practice, no standard. */
export function xoauth2({ user, token }: Bearer): string {
  return `user=${user}\x01auth=Bearer ${token}\x01\x01`;
}

/** A name in the header of GS2 (saslname, RFC 5801 §4). */
function saslName(name: string): string {
  return name.replaceAll('=', '=3D').replaceAll(',', '=2C');
}
