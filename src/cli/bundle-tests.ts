import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { build, type Plugin } from 'esbuild';

/** Begins the name of a folder of programs, which ends in the process that made it. */
const NAMED = 'tests-';

/** What holds machine code, looks for files beside itself, or is run by its own means. */
const OUTSIDE = /^(sharp|pg-native|selenium-webdriver|esbuild|typescript|fsevents)(\/|$)/;

/** What a module says of its own place stays true: it is asked for files that lie beside the source. */
const places: Plugin = {
  name: 'places',
  setup: ({ onLoad }) => {
    onLoad({ filter: /\.tsx?$/ }, ({ path }) => ({
      contents: readFileSync(path, 'utf8')
        .replaceAll('import.meta.dirname', JSON.stringify(dirname(path)))
        .replaceAll('import.meta.url', JSON.stringify(pathToFileURL(path).href)),
      loader: path.endsWith('x') ? 'tsx' : 'ts',
    }));
  },
};

/** The libraries are built in: each program would read their thousand files anew. */
const libraries: Plugin = {
  name: 'libraries',
  setup: ({ onResolve }) => {
    onResolve({ filter: OUTSIDE }, ({ path }) => ({ path, external: true }));
  },
};

/**
 * Makes of files of tests programs that Node runs as they are, with what they share in files of its own. Each would otherwise
 * translate and read some thousand modules again, for longer than most of them test.
 *
 * @returns the folder, below `dist`, in which each program lies as its source below the root.
 */
export async function bundleTests(root: string, files: readonly string[]): Promise<string> {
  const folder = join(root, 'dist', `${NAMED}${process.pid}`);
  mkdirSync(folder, { recursive: true });
  removeLeftovers(join(root, 'dist'));
  await build({
    absWorkingDir: root,
    entryPoints: [...files],
    outbase: root,
    outdir: folder,
    outExtension: { '.js': '.mjs' },
    chunkNames: 'shared/[hash]',
    bundle: true,
    splitting: true,
    platform: 'node',
    format: 'esm',
    target: 'node20',
    sourcemap: true,
    sourcesContent: false,
    // Libraries of the older kind of module ask for those of the platform.
    banner: {
      js: "import { createRequire as requireOf } from 'node:module'; const require = requireOf(import.meta.url);",
    },
    plugins: [places, libraries],
    logLevel: 'error',
  });
  return folder;
}

/** Removes what a run left that was ended before its end. */
function removeLeftovers(dist: string): void {
  for (const name of readdirSync(dist))
    if (name.startsWith(NAMED) && !existsSync(`/proc/${name.slice(NAMED.length)}`))
      rmSync(join(dist, name), { recursive: true });
}
