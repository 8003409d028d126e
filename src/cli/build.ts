import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { EXIT, Stop } from './exits';
import { say } from './say';

/** Builds the web server and the worker when what they are made of changed since the last time. */
export function ensureBuilt(root: string): void {
  const stamp = join(root, 'dist', 'built-from');
  const sum = sourcesSum(root);
  if (existsSync(stamp) && readFileSync(stamp, 'utf8') === sum) return;
  say('Building …');
  const result = spawnSync(process.execPath, [join(root, 'node_modules/astro/astro.js'), 'build', '--silent'], {
    cwd: root,
    env: { ...process.env, ASTRO_TELEMETRY_DISABLED: '1' },
    encoding: 'utf8',
  });
  if (result.status !== 0)
    throw new Stop(EXIT.buildFailed, `The build failed: ${`${result.stdout}${result.stderr}`.trim()}`);
  mkdirSync(join(root, 'dist'), { recursive: true });
  writeFileSync(stamp, sum);
}

function sourcesSum(root: string): string {
  const hash = createHash('sha256');
  const files = ['package-lock.json', 'astro.config.ts', 'tsconfig.json'];
  const folders = ['src'];
  for (let folder = folders.pop(); folder !== undefined; folder = folders.pop()) {
    for (const entry of readdirSync(join(root, folder), { withFileTypes: true })) {
      const path = join(folder, entry.name);
      if (entry.isDirectory()) folders.push(path);
      else if (!/\.test\.tsx?$/.test(entry.name)) files.push(path);
    }
  }
  for (const path of files.sort())
    hash
      .update(path)
      .update('\0')
      .update(readFileSync(join(root, path)));
  return hash.digest('hex');
}
