/** How the command ends when it can't go on. docs/operating.md lists these. */
export const EXIT = {
  failed: 1,
  usage: 2,
  // 10, a wrong Node, is answered by the shell script before any of this can run.
  packagesMissing: 11,
  dataNotWritable: 12,
  portTaken: 13,
  databaseSilent: 14,
  buildFailed: 15,
  fileWrong: 16,
  unsafe: 17,
  dataInUse: 18,
  newerData: 19,
} as const;

/** A reason to stop, in one sentence for a person. */
export class Stop extends Error {
  constructor(
    readonly code: number,
    message: string,
  ) {
    super(message);
  }
}
