/** A message of a file that was saved elsewhere. */
export interface BroughtMessage {
  /** The path of its mail folder, levels parted by `/`; '' where the file names none. */
  folder: string;
  /** When it came in, as the file says it; null where it does not. */
  received: Date | null;
  /** Bits of core/mailbox/flags; null where the file tells none. */
  flags: number | null;
  keywords: string[];
  /** Octets, as far as that is known before it is read. */
  size: number;
  /** All of its octets, with the line ends of mail; any number of times, until the next message is asked for. Throws CutOff where some are missing, or others than were saved. */
  read(): AsyncIterable<Uint8Array>;
}

/** What comes out of a file that is brought in: a message, or a file that is none. */
export interface BroughtItem {
  message: BroughtMessage | undefined;
  /** How much of the file was gone through, from 0 to 1. */
  done: number;
}
