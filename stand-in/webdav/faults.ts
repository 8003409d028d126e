/** What can go wrong at the file space. Everything is off by default. */
export interface SpaceFaults {
  /** Before each answer. */
  latencyMs: number;
  /** Closes the connection when so many octets of an answer were sent; 0 is never. Counts down to nothing by `times`. */
  cutAfter: { octets: number; times: number } | null;
  /** Does what was asked, then closes the connection instead of answering. */
  dropAnswerTo: { method: string; times: number } | null;
  /** Answers with a status and does nothing. */
  refuse: { method: string; status: number; times: number } | null;
  /** What is asked of files whose path holds this is refused. */
  hidden: string | null;
  /** A move copies first, and takes the original away after so many milliseconds, as a server does between two disks. */
  slowMoveMs: number;
  /** Paths that somebody has locked: changes of them are 423. */
  locked: string[];
  /** Keeps only the first octets of what is put, then closes the connection; counts down to nothing by `times`. */
  keepPart: { octets: number; times: number } | null;
  /** Keeps other octets than were put, as a server that converts files does. */
  alters: boolean;
  /** There is no room for anything: PUT is 507. */
  full: boolean;
  /** Each folder has a folder in it, without end. */
  deep: boolean;
  /** A folder has members without end. */
  endless: boolean;
  /** All files have the same tag, whatever is in them. */
  sameEtag: boolean;
  /** Changes can't be asked for. */
  noSync: boolean;
  /** Of a folder that went and came back, what went with it is not told. */
  terse: boolean;
  /** No account of room is kept. */
  noQuota: boolean;
  /** A document type with entities that grow stands before an answer. */
  bomb: boolean;
}

export function noSpaceFaults(): SpaceFaults {
  return {
    latencyMs: 0,
    cutAfter: null,
    dropAnswerTo: null,
    refuse: null,
    hidden: null,
    slowMoveMs: 0,
    locked: [],
    keepPart: null,
    alters: false,
    full: false,
    deep: false,
    endless: false,
    sameEtag: false,
    noSync: false,
    terse: false,
    noQuota: false,
    bomb: false,
  };
}

/** Whether a fault that is counted strikes now; counts it. */
export function strikesAt(fault: { method: string; times: number } | null, method: string): boolean {
  if (!fault || fault.times <= 0 || fault.method !== method) return false;
  fault.times--;
  return true;
}
