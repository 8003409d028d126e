import { spawnSync } from 'node:child_process';
import { existsSync, mkdtempSync, readdirSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, relative, resolve } from 'node:path';
import { parseArgs } from 'node:util';
import { ensureBuilt } from './build';
import { bundleTests } from './bundle-tests';
import { Cluster } from './cluster';
import { ensurePackages, FOR_TESTS, POSTGRESQL } from './debian';
import { EXIT, Stop } from './exits';
import { say } from './say';

/** Parts of the tests in their order, with the folders of their files. `long` is run only where it is asked for. */
const PARTS = {
  check: [],
  unit: ['src', 'stand-in'],
  fast: ['test/fast'],
  security: ['test/security'],
  integration: ['test/integration'],
  servers: ['test/servers'],
  browser: ['test/browser'],
  long: ['test/long'],
} as const;
type Part = keyof typeof PARTS;

const USUAL: readonly Part[] = ['check', 'unit', 'fast', 'security', 'integration', 'servers', 'browser'];
/** Files that run at a time: two cores idle for a quarter of the time with two. Those of long kill what others share. */
const SIDE_BY_SIDE = 3;

/**
 * Type check, lint, the direction of imports, then the tests in one run of Node's runner, whose closing lines come last.
 *
 * @param args parts, files of tests, `--long` for the long trials, `--name` and a pattern of the names of tests.
 */
export async function test(root: string, args: string[]): Promise<number> {
  const { parts, files, name } = asked(root, args);
  if (parts.has('check') && !check(root)) return EXIT.failed;
  if (files.length === 0) return 0;
  const needsMore = files.some((file) => !file.startsWith('src/') && !file.startsWith('stand-in/'));
  const options = [
    `--test-concurrency=${parts.has('long') ? 1 : SIDE_BY_SIDE}`,
    ...(name === undefined ? [] : [`--test-name-pattern=${name}`]),
  ];
  if (!needsMore) return runTests(root, files, options, {});
  ensurePackages([POSTGRESQL, ...FOR_TESTS]);
  ensureBuilt(root);
  const directory = mkdtempSync(join(tmpdir(), 'tamsel-test-'));
  // Hundreds of databases are left until the end, and the launcher of autovacuum would go through all of them each minute.
  const settings = ['fsync=off', 'max_connections=400', 'autovacuum_naptime=300'].flatMap((one) => ['-c', one]);
  const cluster = await Cluster.start(directory, settings);
  try {
    return await runTests(root, files, options, {
      TAMSEL_TEST_CLUSTER: cluster.url(''),
      TAMSEL_TEST_CLUSTER_SUPERUSER: cluster.superuserUrl(''),
    });
  } finally {
    await cluster.stop('immediate');
    // Hundreds of databases of a thousand files each: the system’s own program takes a tenth of the time.
    spawnSync('rm', ['-rf', directory]);
  }
}

function asked(root: string, args: string[]): { parts: ReadonlySet<Part>; files: string[]; name: string | undefined } {
  let given: ReturnType<typeof parsed>;
  try {
    given = parsed(args);
  } catch (error) {
    throw new Stop(EXIT.usage, `${(error as Error).message}; see ./tamsel help.`);
  }
  const { values, positionals } = given;
  const called = process.env.TAMSEL_CALLED_FROM ?? root;
  const single = positionals
    .filter((word) => /\.test\.tsx?$/.test(word))
    .map((word) => relative(root, resolve(called, word)));
  for (const file of single) if (!existsSync(join(root, file))) throw new Stop(EXIT.usage, `There is no file ${file}.`);
  const named = positionals.filter((word) => !/\.test\.tsx?$/.test(word));
  for (const part of named)
    if (!(part in PARTS))
      throw new Stop(EXIT.usage, `There is no part ${part}; the parts are ${Object.keys(PARTS).join(', ')}.`);
  const wanted = [...(named as Part[]), ...(values.long ? (['long'] as const) : [])];
  const parts = new Set<Part>(wanted.length > 0 || single.length > 0 ? wanted : USUAL);
  const files = [...parts].flatMap((part) => PARTS[part].flatMap((folder) => testFiles(root, folder)));
  return { parts, files: [...new Set([...files, ...single])], name: values.name };
}

function parsed(args: string[]) {
  return parseArgs({
    args,
    allowPositionals: true,
    options: { long: { type: 'boolean', default: false }, name: { type: 'string' } },
  });
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

/** The files of tests below a folder, by their names. */
function testFiles(root: string, folder: string): string[] {
  return readdirSync(join(root, folder), { recursive: true, encoding: 'utf8' })
    .filter((path) => /\.test\.tsx?$/.test(path))
    .map((path) => join(folder, path))
    .sort();
}

async function runTests(root: string, files: string[], options: string[], env: NodeJS.ProcessEnv): Promise<number> {
  say(`Running ${files.length} files of tests …`);
  const folder = await bundleTests(root, files);
  try {
    const programs = files.map((file) => join(folder, file.replace(/\.tsx?$/, '.mjs')));
    const result = spawnSync(
      process.execPath,
      [
        '--enable-source-maps',
        '--import',
        './test/untracked-promises.mjs',
        '--test',
        // Of a file too, on a machine that others use. What hangs is told earlier, by what it waited for.
        '--test-timeout=1800000',
        '--test-reporter=spec',
        ...options,
        ...programs,
      ],
      {
        cwd: root,
        env: { ...process.env, ASTRO_TELEMETRY_DISABLED: '1', ...env },
        stdio: 'inherit',
      },
    );
    return result.status ?? EXIT.failed;
  } finally {
    rmSync(folder, { recursive: true });
  }
}
