import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { build, type Plugin } from 'esbuild';

/** Begins the name of a folder of programs, which ends in the process that made it. */
const NAMED = 'tests-';

/** Of hundreds of small files each, which every file of tests would read anew. */
const BUILT_IN = /^(date-fns|@date-fns\/tz|apache-arrow|valibot|htmlparser2|fast-xml-parser|fast-check)(\/|$)/;

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

/** All but our own files and what is built in is found where it lies. */
const libraries: Plugin = {
  name: 'libraries',
  setup: ({ onResolve }) => {
    onResolve({ filter: /^[^./]/ }, ({ path, kind, importer }) =>
      kind === 'entry-point' || BUILT_IN.test(path) || /node_modules/.test(importer)
        ? undefined
        : { path, external: true },
    );
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
