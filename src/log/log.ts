import pino, { type Logger } from 'pino';

export type Log = Logger;

/** Fields that never reach a log, wherever they stand in what is logged. */
const SECRETS = ['password', 'secret', 'token', 'cookie', 'authorization', 'auth', 'accessToken', 'refreshToken'];

/**
 * The log of a process: one JSON object a line on standard error, with `time` (ISO 8601), `level`, `process`, `msg`, and what
 * belongs to the event. docs/operating.md lists the events.
 */
export function openLog(process: 'web' | 'worker'): Log {
  return pino(
    {
      base: { process },
      timestamp: pino.stdTimeFunctions.isoTime,
      formatters: { level: (label) => ({ level: label }) },
      redact: SECRETS.flatMap((name) => [name, `*.${name}`, `*.*.${name}`, `err.cause.${name}`]),
    },
    pino.destination({ dest: 2, sync: true }),
  );
}
