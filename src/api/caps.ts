/** How much one may take of an instance, so that nobody takes it from the others. */
export interface Caps {
  /** Accounts of one session. */
  accountsOfSession: number;
  /** Sessions that are signed in to one account; the one that was used least lately makes room. */
  sessionsOfAccount: number;
  /** Accounts that one network makes within a day. */
  newAccountsADay: number;
  /** Accounts of all. */
  accounts: number;
  /** Scans of one account within an hour that somebody asks for. */
  scansAnHour: number;
  /** Messages that a purge takes without asking for the password again. */
  purgedUnasked: number;
}

const USUAL: Caps = {
  accountsOfSession: 50,
  sessionsOfAccount: 50,
  newAccountsADay: 50,
  accounts: 10_000,
  scansAnHour: 120,
  purgedUnasked: 10_000,
};

/** Environment variables, as docs/operating.md lists them. */
const VARIABLES: Record<keyof Caps, string> = {
  accountsOfSession: 'TAMSEL_MOST_ACCOUNTS_OF_SESSION',
  sessionsOfAccount: 'TAMSEL_MOST_SESSIONS_OF_ACCOUNT',
  newAccountsADay: 'TAMSEL_MOST_NEW_ACCOUNTS_A_DAY',
  accounts: 'TAMSEL_MOST_ACCOUNTS',
  scansAnHour: 'TAMSEL_MOST_SCANS_AN_HOUR',
  purgedUnasked: 'TAMSEL_MOST_PURGED_UNASKED',
};

/** @param numberOf reads a variable, or gives what is usual. */
export function capsFrom(numberOf: (variable: string, usual: number) => number): Caps {
  const caps = { ...USUAL };
  for (const [cap, variable] of Object.entries(VARIABLES) as [keyof Caps, string][])
    caps[cap] = numberOf(variable, USUAL[cap]);
  return caps;
}
