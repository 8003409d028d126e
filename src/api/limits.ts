/** How much one may take of an instance, so that nobody takes it from the others. */
export interface Limits {
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
  /** Mailboxes that one operator of a host looks after. */
  mailboxesOfOperator: number;
  /** Accounts that the rounds of one operator make: each has an index. */
  accountsOfRounds: number;
}

const USUAL: Limits = {
  accountsOfSession: 50,
  sessionsOfAccount: 50,
  newAccountsADay: 50,
  accounts: 10_000,
  scansAnHour: 120,
  purgedUnasked: 10_000,
  mailboxesOfOperator: 10_000,
  accountsOfRounds: 2_000,
};

/** Environment variables, as docs/operating.md lists them. */
const VARIABLES: Record<keyof Limits, string> = {
  accountsOfSession: 'TAMSEL_MAX_ACCOUNTS_PER_SESSION',
  sessionsOfAccount: 'TAMSEL_MAX_SESSIONS_PER_ACCOUNT',
  newAccountsADay: 'TAMSEL_MAX_NEW_ACCOUNTS_PER_DAY',
  accounts: 'TAMSEL_MAX_ACCOUNTS',
  scansAnHour: 'TAMSEL_MAX_SCANS_PER_HOUR',
  purgedUnasked: 'TAMSEL_MAX_UNCONFIRMED_PURGE',
  mailboxesOfOperator: 'TAMSEL_MAX_MAILBOXES_PER_OPERATOR',
  accountsOfRounds: 'TAMSEL_MAX_ACCOUNTS_PER_OPERATOR',
};

/** @param numberOf reads a variable, or gives what is usual. */
export function limitsFrom(numberOf: (variable: string, usual: number) => number): Limits {
  const limits = { ...USUAL };
  for (const [cap, variable] of Object.entries(VARIABLES) as [keyof Limits, string][])
    limits[cap] = numberOf(variable, USUAL[cap]);
  return limits;
}
