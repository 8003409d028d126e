type Security = 'tls' | 'starttls' | 'none';

/** What the form holds of a server; the port as it is typed. */
export interface Server {
  host: string;
  port: string;
  security: Security;
  user: string;
  /** Who signed in before, where that is another. */
  signInAs?: string;
}

/** Where a mailbox is, and whose. */
export interface Place extends Omit<Server, 'port' | 'signInAs'> {
  port: number;
}

/** With which one signs in. */
export interface Access extends Place {
  password: string;
  signInAs?: string;
  /** Why another signs in. */
  reason?: string;
}
