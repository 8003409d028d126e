import { spawn } from 'node:child_process';
import { cpSync, mkdtempSync, readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join, relative, resolve } from 'node:path';
import { parseArgs } from 'node:util';
import { Cluster } from '../../src/cli/cluster';
import { type Mutation, mutationsOf } from './mutations';

/**
 * Changes the code in one small way at a time and looks whether a fast test notices: the unit tests and those of test/fast that
 * reach the changed file. Tells what survives.
 *
 *     npm run mutate -- --mutations 50 --seed 7 --only src/core/plan
 */
const ROOT = resolve(import.meta.dirname, '../..');
/** The rooms where safety is decided; what they show on screens is another matter. */
const ROOMS = ['src/core', 'src/store', 'src/jobs', 'src/mail', 'src/api'];
const MINUTE_MS = 60_000;

const { values } = parseArgs({
  options: {
    mutations: { type: 'string', default: '50' },
    seed: { type: 'string', default: `${Date.now() % 100_000}` },
    only: { type: 'string', multiple: true, default: [] },
    workers: { type: 'string', default: '2' },
  },
});
const seed = Number(values.seed);
const sources = filesBelow('src').filter(isCode);
const tests = ['src', 'test/fast'].flatMap(filesBelow).filter((path) => path.endsWith('.test.ts'));
const reached = new Map(tests.map((test) => [test, reachedFrom(test)]));
const inScope = (path: string) => (values.only.length > 0 ? values.only : ROOMS).some((room) => path.startsWith(room));
const all = sources.filter(inScope).flatMap((path) => mutationsOf(path, readFileSync(join(ROOT, path), 'utf8')));
const chosen = pick(all, Number(values.mutations), seed);
console.log(`${chosen.length} of ${all.length} mutations, seed ${seed}`);

const folder = mkdtempSync(join(tmpdir(), 'tamsel-mutate-'));
const cluster = await Cluster.start(folder, ['-c', 'fsync=off', '-c', 'max_connections=200']);
const env = {
  ...process.env,
  TAMSEL_TEST_CLUSTER: cluster.url(''),
  TAMSEL_TEST_CLUSTER_SUPERUSER: cluster.superuserUrl(''),
};
const survivors: Mutation[] = [];
let done = 0;
try {
  await Promise.all(Array.from({ length: Number(values.workers) }, (_, index) => work(join(folder, `copy-${index}`))));
} finally {
  await cluster.stop();
  rmSync(folder, { recursive: true, force: true });
}
const killed = chosen.length - survivors.length;
console.log(`\n${killed} of ${chosen.length} were noticed: ${Math.round((100 * killed) / chosen.length)} %`);

/** Takes mutations until none is left, in a copy of the project. */
async function work(copy: string): Promise<void> {
  for (const part of ['src', 'test', 'stand-in', 'package.json', 'tsconfig.json'])
    cpSync(join(ROOT, part), join(copy, part), { recursive: true });
  symlinkSync(join(ROOT, 'node_modules'), join(copy, 'node_modules'));
  if (!(await passes(copy, tests, MINUTE_MS))) throw new Error('The tests fail as they are.');
  for (let mutation = chosen[done++]; mutation; mutation = chosen[done++]) {
    const path = join(copy, mutation.path);
    const before = readFileSync(path, 'utf8');
    writeFileSync(path, before.slice(0, mutation.from) + mutation.now + before.slice(mutation.to));
    const noticed = await isNoticed(copy, mutation.path);
    writeFileSync(path, before);
    if (!noticed) survivors.push(mutation);
    const line = before.slice(0, mutation.from).split('\n').length;
    const was = before.slice(mutation.from, mutation.to);
    console.log(
      `${noticed ? 'noticed ' : 'SURVIVED'} ${mutation.path}:${line}  ${brief(was)} → ${brief(mutation.now)}`,
    );
  }
}

/** Runs the tests that reach a file, those beside it first, until one fails or a minute is over. */
async function isNoticed(copy: string, path: string): Promise<boolean> {
  const near = (test: string) => (dirname(test) === dirname(path) ? 0 : test.startsWith('src/') ? 1 : 2);
  const reaching = tests.filter((test) => reached.get(test)?.has(path)).sort((a, b) => near(a) - near(b));
  const end = Date.now() + MINUTE_MS;
  for (const rank of [0, 1, 2]) {
    const some = reaching.filter((test) => near(test) === rank);
    if (some.length > 0 && !(await passes(copy, some, end - Date.now()))) return true;
  }
  return false;
}

function passes(copy: string, files: readonly string[], ms: number): Promise<boolean> {
  const args = ['--import', 'tsx', '--test', `--test-timeout=${Math.max(1_000, Math.min(ms, 30_000))}`, ...files];
  const child = spawn(process.execPath, args, { cwd: copy, env, stdio: 'ignore' });
  return new Promise((resolve_) => child.once('exit', (code) => resolve_(code === 0)));
}

function isCode(path: string): boolean {
  return /\.ts$/.test(path) && !/\.(test|d)\.ts$/.test(path);
}

function filesBelow(path: string): string[] {
  return readdirSync(join(ROOT, path), { withFileTypes: true, recursive: true })
    .filter((entry) => entry.isFile())
    .map((entry) => relative(ROOT, join(entry.parentPath ?? entry.path, entry.name)));
}

/** The files that a file imports, directly or not. */
function reachedFrom(path: string, known = new Set<string>()): ReadonlySet<string> {
  if (known.has(path)) return known;
  known.add(path);
  for (const [, to = ''] of readFileSync(join(ROOT, path), 'utf8').matchAll(/(?:from |import\()'(\.[^']*)'/g)) {
    const base = relative(ROOT, resolve(ROOT, dirname(path), to));
    const found = [`${base}.ts`, `${base}/index.ts`].find((candidate) => exists(candidate));
    if (found) reachedFrom(found, known);
  }
  return known;
}

function exists(path: string): boolean {
  try {
    readFileSync(join(ROOT, path));
    return true;
  } catch {
    return false;
  }
}

/** So many of a list, the same for the same seed (xorshift32). */
function pick<T>(list: readonly T[], count: number, from: number): T[] {
  let state = from * 2_654_435_761 || 1;
  const random = () => {
    state ^= state << 13;
    state ^= state >>> 17;
    state ^= state << 5;
    return (state >>> 0) / 2 ** 32;
  };
  const rest = [...list];
  return Array.from(
    { length: Math.min(count, rest.length) },
    () => rest.splice(Math.floor(random() * rest.length), 1)[0] as T,
  );
}

function brief(text: string): string {
  const line = text.replace(/\s+/g, ' ');
  return line.length > 60 ? `${line.slice(0, 57)}…` : line || 'nothing';
}
