import { spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, writeFileSync } from 'node:fs';
import { EXIT, Stop } from './exits';
import { say } from './say';

/** A Debian package, and a way to see that what it brings is there. */
export interface Needed {
  package: string;
  present(): boolean;
}

const runnable = (path: string) => () => existsSync(path);

export const POSTGRESQL: Needed = { package: 'postgresql', present: () => postgresBinaries() !== undefined };

export const FOR_TESTS: Needed[] = [
  { package: 'chromium', present: runnable('/usr/bin/chromium') },
  { package: 'chromium-driver', present: runnable('/usr/bin/chromedriver') },
  { package: 'dovecot-imapd', present: runnable('/usr/lib/dovecot/imap') },
  { package: 'dovecot-lmtpd', present: runnable('/usr/lib/dovecot/lmtp') },
  { package: 'dovecot-sieve', present: runnable('/usr/bin/sieve-test') },
  { package: 'dovecot-managesieved', present: runnable('/usr/lib/dovecot/managesieve') },
  { package: 'python3', present: runnable('/usr/bin/python3') },
  { package: 'python3-dateutil', present: runnable('/usr/lib/python3/dist-packages/dateutil') },
  { package: 'python3-prometheus-client', present: runnable('/usr/lib/python3/dist-packages/prometheus_client') },
  { package: 'pgbouncer', present: runnable('/usr/sbin/pgbouncer') },
  { package: 'apache2', present: runnable('/usr/sbin/apache2') },
  { package: 'nginx-light', present: runnable('/usr/sbin/nginx') },
  { package: 'tzdata', present: runnable('/usr/share/zoneinfo/Europe') },
  { package: 'curl', present: runnable('/usr/bin/curl') },
  { package: 's-nail', present: runnable('/usr/bin/s-nail') },
  { package: 'unzip', present: runnable('/usr/bin/unzip') },
];

/** The oldest PostgreSQL that has what the queries use: range_agg over multiranges. */
const MIN_POSTGRESQL_VERSION = 15;

/** The folder of the newest PostgreSQL server's programs, or of one version; undefined where there is none. */
export function postgresBinaries(version?: string): string | undefined {
  const root = '/usr/lib/postgresql';
  if (!existsSync(root)) return undefined;
  const versions = readdirSync(root)
    .filter(
      (name) =>
        Number(name) >= MIN_POSTGRESQL_VERSION &&
        (version === undefined || name === version) &&
        existsSync(`${root}/${name}/bin/initdb`),
    )
    .sort((a, b) => Number(b) - Number(a));
  return versions[0] === undefined ? undefined : `${root}/${versions[0]}/bin`;
}

/** Installs the packages that are missing; says the exact command where that is not allowed. */
export function ensurePackages(needed: readonly Needed[]): void {
  const missing = needed.filter(({ present }) => !present()).map((one) => one.package);
  if (missing.length === 0) return;
  const command = ['apt-get', 'install', '-y', '--no-install-recommends', ...missing];
  const isRoot = process.getuid?.() === 0;
  const sudo = !isRoot && spawnSync('sudo', ['-n', 'true']).status === 0;
  if (!isRoot && !sudo) {
    throw new Stop(
      EXIT.packagesMissing,
      `These packages are missing and can't be installed from here. Run: sudo ${command.join(' ')}`,
    );
  }
  if (missing.includes('postgresql') && isRoot) keepDebianFromMakingACluster();
  say(`Installing ${missing.join(', ')} …`);
  const run = (words: string[]) => {
    const [program, ...args] = isRoot ? words : ['sudo', '-n', ...words];
    return spawnSync(program as string, args, {
      env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' },
      encoding: 'utf8',
    });
  };
  run(['apt-get', 'update']);
  const result = run(command);
  if (result.status !== 0 || needed.some(({ present }) => !present())) {
    throw new Stop(
      EXIT.packagesMissing,
      `Installing failed: ${(result.stderr ?? '').trim().split('\n').at(-1) ?? ''} Run: sudo ${command.join(' ')}`,
    );
  }
}

/** Debian's package makes and starts a cluster of its own unless it is told not to. */
function keepDebianFromMakingACluster(): void {
  mkdirSync('/etc/postgresql-common/createcluster.d', { recursive: true });
  writeFileSync('/etc/postgresql-common/createcluster.d/tamsel.conf', 'create_main_cluster = false\n');
}
