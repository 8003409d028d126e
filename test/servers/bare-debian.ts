import { type ChildProcess, execFileSync, type SpawnOptions, spawn } from 'node:child_process';
import { cpSync, existsSync, mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';

/** Where systems are kept from one run to the next: to fetch one takes a minute. */
const KEPT = process.env.TAMSEL_BARE_DEBIAN ?? '/var/tmp/tamsel-bare-debian';
const RELEASE = 'bookworm';
const MIRROR = 'http://deb.debian.org/debian';

/** A bare Debian in a folder of its own, entered by chroot. It shares this machine's loopback. Needs root and debootstrap. */
export class BareDebian {
  private constructor(readonly root: string) {}

  /** Gives a system with packages. Packages that exclude each other, or what this machine has, lie in one each. */
  static with(name: string, packages: readonly string[]): BareDebian {
    if (process.getuid?.() !== 0) throw new Error('A bare Debian is made and entered by root.');
    mkdirSync(KEPT, { recursive: true });
    const base = join(KEPT, 'base');
    if (!existsSync(join(base, 'etc/debian_version')))
      execFileSync('debootstrap', ['--variant=minbase', RELEASE, base, MIRROR], {
        stdio: ['ignore', 'ignore', 'inherit'],
      });
    const system = new BareDebian(join(KEPT, name));
    if (!existsSync(system.root)) {
      execFileSync('cp', ['-a', base, system.root]);
      cpSync('/etc/resolv.conf', join(system.root, 'etc/resolv.conf'), { dereference: true });
      // Services are started by who tests them, not by their packages.
      system.write('usr/sbin/policy-rc.d', '#!/bin/sh\nexit 101\n', 0o755);
    }
    if (!existsSync(join(system.root, 'proc/self')))
      execFileSync('mount', ['-t', 'proc', 'proc', join(system.root, 'proc')]);
    if (packages.length > 0)
      system.shell(`export DEBIAN_FRONTEND=noninteractive
        dpkg -s ${packages.join(' ')} >/dev/null 2>&1 ||
        { apt-get update -qq && apt-get install -y -qq --no-install-recommends ${packages.join(' ')}; } >/dev/null`);
    return system;
  }

  write(path: string, text: string, mode = 0o644): void {
    writeFileSync(join(this.root, path), text, { mode });
  }

  shell(script: string): string {
    return execFileSync('chroot', [this.root, 'sh', '-ec', script], { encoding: 'utf8' });
  }

  start(command: string, options: SpawnOptions = {}): ChildProcess {
    return spawn('chroot', [this.root, 'sh', '-c', `exec ${command}`], { stdio: 'ignore', ...options });
  }

  leave(): void {
    execFileSync('umount', ['-l', join(this.root, 'proc')]);
  }
}
