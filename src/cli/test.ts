import { spawnSync } from 'node:child_process';
import { mkdtempSync, readdirSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { ensureBuilt } from './build';
import { Cluster } from './cluster';
import { ensurePackages, FOR_TESTS, POSTGRESQL } from './debian';
import { EXIT, Stop } from './exits';
import { say } from './say';

const PARTS = ['check', 'unit', 'security', 'integration', 'browser'] as const;
type Part = (typeof PARTS)[number];

/** Type check, lint, the direction of imports, then the tests in one run of Node's runner, whose closing lines come last. */
export async function test(root: string, args: string[]): Promise<number> {
  for (const part of args)
    if (!(PARTS as readonly string[]).includes(part))
      throw new Stop(EXIT.usage, `There is no part ${part}; the parts are ${PARTS.join(', ')}.`);
  const parts = new Set<Part>(args.length > 0 ? (args as Part[]) : PARTS);
  if (parts.has('check') && !check(root)) return EXIT.failed;
  const files = testFiles(root, parts);
  if (files.length === 0) return 0;
  const heavy = parts.has('security') || parts.has('integration') || parts.has('browser');
  if (!heavy) return runTests(root, files, {});
  ensurePackages([POSTGRESQL, ...FOR_TESTS]);
  ensureBuilt(root);
  const directory = mkdtempSync(join(tmpdir(), 'tamsel-test-'));
  const cluster = await Cluster.start(directory, ['-c', 'fsync=off', '-c', 'max_connections=200']);
  try {
    return runTests(root, files, {
      TAMSEL_TEST_CLUSTER: cluster.url(''),
      TAMSEL_TEST_CLUSTER_SUPERUSER: cluster.superuserUrl(''),
    });
  } finally {
    await cluster.stop();
    rmSync(directory, { recursive: true, force: true });
  }
}

function check(root: string): boolean {
  const steps: [string, string[]][] = [
    ['types', ['node_modules/typescript/bin/tsc', '--noEmit']],
    ['lint', ['node_modules/@biomejs/biome/bin/biome', 'check', '.']],
    [
      'direction of imports',
      [
        'node_modules/dependency-cruiser/bin/dependency-cruise.mjs',
        '--config',
        '.dependency-cruiser.cjs',
        'src',
        'stand-in',
        'test',
        'bench',
      ],
    ],
  ];
  return steps.every(([name, args]) => {
    say(`Checking ${name} …`);
    return spawnSync(process.execPath, args, { cwd: root, stdio: 'inherit' }).status === 0;
  });
}

function testFiles(root: string, parts: ReadonlySet<Part>): string[] {
  const files: string[] = [];
  const walk = (folder: string) => {
    for (const entry of readdirSync(join(root, folder), { withFileTypes: true })) {
      const path = join(folder, entry.name);
      if (entry.isDirectory()) walk(path);
      else if (/\.test\.tsx?$/.test(entry.name)) files.push(path);
    }
  };
  if (parts.has('unit')) for (const folder of ['src', 'stand-in']) walk(folder);
  if (parts.has('security')) walk('test/security');
  if (parts.has('integration')) walk('test/integration');
  if (parts.has('browser')) walk('test/browser');
  return files.sort();
}

function runTests(root: string, files: string[], env: NodeJS.ProcessEnv): number {
  say(`Running ${files.length} files of tests …`);
  const result = spawnSync(
    process.execPath,
    ['--import', 'tsx', '--test', '--test-concurrency=1', '--test-timeout=600000', '--test-reporter=spec', ...files],
    {
      cwd: root,
      env: { ...process.env, ASTRO_TELEMETRY_DISABLED: '1', ...env },
      stdio: 'inherit',
    },
  );
  return result.status ?? EXIT.failed;
}
