import { isLoopback } from '../mail/destination';

/** The built programs that the command keeps running. */
export const PROGRAMS = {
  web: ['dist/web/main.mjs'],
  worker: ['dist/worker/main.mjs'],
} as const;

/** What the programs of an instance share. */
export interface Instance {
  databaseUrl: string;
  keyFile: string;
  /** The folder of the bags. */
  archive: string;
  /** Where the web server listens. */
  host: string;
  port: number;
  /** Where restarts are written down. */
  restartsFile: string;
}

/** Environment variables that are passed on to the programs. All others are dropped. */
const TAKEN_OVER = /^(TAMSEL_.*|PG[A-Z]+|NODE_.*|SSL_CERT_.*|LC_.*|LANG|PATH|HOME|TZ|TMPDIR)$/;

/** All of the environment of a program, `variables` being that of the command. */
export function programEnvironment(
  { databaseUrl, keyFile, archive, host, port, restartsFile }: Instance,
  variables: NodeJS.ProcessEnv = process.env,
): NodeJS.ProcessEnv {
  // Private addresses may be reached without being asked for only while nobody but this machine can do that.
  const isLocal = isOnThisMachine(host) && !variables.TAMSEL_ORIGIN;
  return {
    ...(isLocal ? { TAMSEL_ALLOW_PRIVATE: '1' } : {}),
    ...takenOver(variables),
    NODE_ENV: 'production',
    TAMSEL_DATABASE_URL: databaseUrl,
    TAMSEL_KEY_FILE: keyFile,
    TAMSEL_ARCHIVE_DIR: archive,
    TAMSEL_HOST: host,
    TAMSEL_PORT: `${port}`,
    TAMSEL_RESTARTS_FILE: restartsFile,
  };
}

/** The variables that are passed on to a program. */
export function takenOver(variables: NodeJS.ProcessEnv = process.env): NodeJS.ProcessEnv {
  return Object.fromEntries(Object.entries(variables).filter(([name]) => TAKEN_OVER.test(name)));
}

export function isOnThisMachine(host: string): boolean {
  return host === 'localhost' || isLoopback(host);
}
