import { type ChildProcess, execFileSync, type SpawnOptions, spawn } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { later, temporaryFolder } from '../harness';

/** Where unpacked packages are kept from one run to the next. */
const KEPT = process.env.TAMSEL_UNPACKED_DEBIAN ?? '/var/tmp/tamsel-unpacked-debian';
/** What packages take for granted of every Debian, and do not name. */
const ESSENTIAL = ['base-files', 'coreutils', 'dash', 'perl-base', 'sed'];
/** The pages of the manual and such take half of the time to copy. */
const NOT_NEEDED = ['usr/share/doc', 'usr/share/man', 'usr/share/locale', 'usr/share/mime', 'var/lib/dpkg'];

/**
 * Packages of Debian that are unpacked in a folder with all that they depend on: nothing of this machine's system is touched, no
 * package's own script runs, and no service is started. Programs run below it by chroot, with this machine's loopback.
 */
export class UnpackedDebian {
  private constructor(readonly root: string) {}

  /** A fresh system with packages, which goes with the test. */
  static with(name: string, packages: readonly string[]): UnpackedDebian {
    const kept = join(KEPT, name);
    if (!existsSync(kept)) unpack(kept, packages);
    const root = join(temporaryFolder(), 'root');
    // Files that nobody changes are shared with the kept ones.
    execFileSync('cp', ['-al', kept, root]);
    return new UnpackedDebian(root);
  }

  /** Writes a file; one that a package brought is replaced, not changed. */
  write(path: string, text: string, mode = 0o644): void {
    const file = join(this.root, path);
    mkdirSync(dirname(file), { recursive: true });
    rmSync(file, { force: true });
    writeFileSync(file, text, { mode });
  }

  /** Runs a script of the shell in it. */
  shell(script: string): string {
    const [program, ...args] = this.entering(['sh', '-ec', script]);
    return execFileSync(program as string, args, { encoding: 'utf8', env: environment() });
  }

  /** Starts a program in it, which ends with the test. */
  start(command: readonly string[], options: SpawnOptions = {}): ChildProcess {
    const [program, ...args] = this.entering(command);
    const child = spawn(program as string, args, { stdio: 'ignore', detached: true, env: environment(), ...options });
    later(() => ended(child));
    return child;
  }

  /** The mounts go with the process: they are of a namespace of its own. */
  private entering(command: readonly string[]): string[] {
    const script = `mount --rbind /dev "$0/dev"; mount --rbind /proc "$0/proc"; exec chroot "$0" "$@"`;
    const user = process.getuid?.() === 0 ? [] : ['--map-root-user'];
    return ['unshare', '--mount', ...user, 'sh', '-ec', script, this.root, ...command];
  }
}

/** Fetches packages with all that they depend on, as though nothing was installed, and unpacks them. */
function unpack(folder: string, packages: readonly string[]): void {
  // Each process works in a folder of its own: one that is killed is in nobody's way.
  const work = `${folder}.${process.pid}`;
  const [lists, archives, root] = [join(work, 'lists'), join(work, 'archives'), join(work, 'root')];
  rmSync(work, { recursive: true, force: true });
  for (const each of [lists, archives]) mkdirSync(join(each, 'partial'), { recursive: true });
  writeFileSync(join(work, 'status'), '');
  const settings = {
    'Dir::State::lists': lists,
    'Dir::State::status': join(work, 'status'),
    'Dir::Cache::archives': archives,
    'APT::Install-Recommends': 'false',
    'APT::Sandbox::User': '',
    'Debug::NoLocking': 'true',
  };
  const options = Object.entries(settings).flatMap(([name, value]) => ['-o', `${name}=${value}`]);
  const apt = (...words: string[]) => execFileSync('apt-get', [...options, '-qq', '-y', ...words], { stdio: 'pipe' });
  apt('update');
  apt('--download-only', 'install', ...ESSENTIAL, ...packages);
  mkdirSync(root);
  for (const name of readdirSync(archives))
    if (name.endsWith('.deb')) execFileSync('dpkg-deb', ['--extract', join(archives, name), root]);
  for (const path of NOT_NEEDED) rmSync(join(root, path), { recursive: true, force: true });
  for (const path of ['dev', 'proc', 'tmp', 'run']) mkdirSync(join(root, path), { recursive: true });
  execFileSync('sh', ['-c', `[ -e "${root}/bin/sh" ] || ln -s dash "${root}/bin/sh"; chmod 1777 "${root}/tmp"`]);
  // Another process may have been first.
  if (!existsSync(folder)) renameSync(root, folder);
  rmSync(work, { recursive: true });
}

/** Nothing of this machine, but the mark by which what a test starts ends with it. */
function environment(): NodeJS.ProcessEnv {
  const { TAMSEL_TEST_FILE } = process.env;
  return { PATH: '/usr/sbin:/usr/bin:/sbin:/bin', TAMSEL_TEST_FILE };
}

async function ended(child: ChildProcess): Promise<void> {
  if (child.exitCode !== null || child.signalCode !== null) return;
  const gone = new Promise((resolve) => child.once('exit', resolve));
  // What it started is of its group.
  process.kill(-(child.pid as number), 'SIGKILL');
  await gone;
}
