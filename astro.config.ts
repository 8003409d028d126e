import node from '@astrojs/node';
import react from '@astrojs/react';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'astro/config';
import { build } from 'esbuild';

/**
 * The programs, each one file beside what the framework builds: the worker, the thread that reads HTML, and the web server. Run
 * as TypeScript they would hold 50 MB more, and be slower.
 */
const programs = {
  name: 'programs',
  hooks: {
    'astro:build:done': async () => {
      await build({
        entryPoints: {
          'worker/main': 'src/jobs/main.ts',
          'worker/html': 'src/mail/html/thread.ts',
          'web/main': 'src/web/main.ts',
        },
        outdir: 'dist',
        outExtension: { '.js': '.mjs' },
        bundle: true,
        packages: 'external',
        platform: 'node',
        format: 'esm',
        target: 'node20',
        logLevel: 'error',
      });
    },
  },
};

export default defineConfig({
  output: 'server',
  adapter: node({ mode: 'middleware' }),
  integrations: [react(), programs],
  // Its check answers in plain text and knows no scripts; src/api/origin-check.ts checks instead.
  security: { checkOrigin: false },
  devToolbar: { enabled: false },
  vite: {
    plugins: [tailwindcss()],
    worker: { format: 'es' },
    // A policy that allows own code only allows no inlined script or font.
    build: { assetsInlineLimit: 0 },
  },
});
