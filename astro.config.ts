import { readdirSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import node from '@astrojs/node';
import react from '@astrojs/react';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'astro/config';
import { build } from 'esbuild';

/**
 * The programs: the web server with what the framework built, the worker, and what that starts. The libraries are built in, since
 * reading their thousand files takes longer than all else at a start; what is machine code stays outside.
 */
const programs = {
  name: 'programs',
  hooks: {
    'astro:build:done': async () => {
      await build({
        entryPoints: {
          'web/main': 'src/web/main.ts',
          'server/entry': 'dist/server/entry.mjs',
          'worker/main': 'src/jobs/main.ts',
          'worker/html': 'src/mail/html/thread.ts',
          'worker/render': 'src/render/program.ts',
        },
        outdir: 'dist',
        allowOverwrite: true,
        outExtension: { '.js': '.mjs' },
        bundle: true,
        external: ['sharp', 'pg-native'],
        platform: 'node',
        format: 'esm',
        target: 'node20',
        // Libraries of the older kind of module ask for those of the platform.
        banner: {
          js: "import { createRequire } from 'node:module'; const require = createRequire(import.meta.url);",
        },
        logLevel: 'error',
      });
      for (const part of readdirSync('dist/server'))
        if (part !== 'entry.mjs') rmSync(join('dist/server', part), { recursive: true });
    },
  },
};

/** What a page may load and do besides the scripts and styles that the framework knows by their hashes: own code only. */
const policy = [
  "default-src 'none'",
  "img-src 'self' data:",
  "font-src 'self'",
  "connect-src 'self'",
  "worker-src 'self'",
  "base-uri 'none'",
  "form-action 'self'",
  "frame-ancestors 'none'",
] as const;

export default defineConfig({
  output: 'server',
  adapter: node({ mode: 'middleware' }),
  integrations: [react(), programs],
  // Its check answers in plain text and knows no scripts; src/api/origin-check.ts checks instead.
  security: { checkOrigin: false },
  experimental: { csp: { directives: [...policy] } },
  devToolbar: { enabled: false },
  vite: {
    plugins: [tailwindcss()],
    // The library's own puts a style element into the page, which the policy refuses.
    resolve: { alias: { 'react-remove-scroll': fileURLToPath(new URL('src/ui/scroll-lock.tsx', import.meta.url)) } },
    worker: { format: 'es' },
    // A policy that allows own code only allows no inlined script or font.
    build: { assetsInlineLimit: 0 },
  },
});
