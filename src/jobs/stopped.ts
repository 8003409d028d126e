/** A person wants the work to stop. */
export class Stopped extends Error {
  constructor(readonly wanted: 'pause' | 'cancel') {
    super(wanted);
  }
}
