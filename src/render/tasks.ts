/** Octets of a file, and what is to be made of them. */
export type Task =
  /** A small picture of a picture. From its first octets alone, where the file holds a small picture of itself. */
  | { make: 'thumbnail'; octets: Uint8Array; isWhole: boolean }
  | { make: 'picture'; octets: Uint8Array }
  /** A smaller picture of the same format. */
  | { make: 'shrunk'; octets: Uint8Array; longest: number; keepsPlace: boolean; mostLeft: number }
  /** How a picture looks, to tell whether another is nearly alike. */
  | { make: 'look'; octets: Uint8Array }
  /** The first words of a document. */
  | { make: 'words'; octets: Uint8Array; type: string };

/** Why nothing can be made of a file. */
export type Refusal =
  /** No library here reads the format. */
  | 'unknown-format'
  /** The file is not what its format wants. */
  | 'damaged'
  /** It has more octets than are fetched only to show it. */
  | 'too-large'
  /** It claims more points than are decoded. */
  | 'too-many-points'
  /** The smaller picture would not have much less octets. */
  | 'not-smaller'
  /** It took longer, or more memory, than is allowed. */
  | 'too-slow'
  | 'too-much-memory'
  /** A password opens it. */
  | 'locked'
  /** It has no text. */
  | 'no-words';

export type Made =
  | { kind: 'picture'; octets: Uint8Array; width: number; height: number }
  | { kind: 'words'; text: string }
  /** Null of a picture without features. */
  | { kind: 'look'; hash: bigint | null; sharpness: number; width: number; height: number }
  /** The first octets were not enough. */
  | { kind: 'needs-all' }
  | { kind: 'refused'; reason: Refusal };

/** As they go to the process and come from it. */
export interface Asked {
  id: number;
  task: Task;
}

export interface Told {
  id: number;
  made: Made;
}
