/** The arrows of the house: pages → api → jobs, store, mail → core; islands → ui, workers → core. */
const only = (from, allowed) => ({
  name: `${from}-reaches-only-${allowed.join('-') || 'itself'}`,
  severity: 'error',
  from: { path: `^src/${from}/`, pathNot: '\\.test\\.tsx?$' },
  to: { path: '^(src|stand-in|test|bench)/', pathNot: [`^src/(${[from, ...allowed].join('|')})/`] },
});

module.exports = {
  forbidden: [
    only('core', []),
    only('mail', ['core']),
    only('store', ['core']),
    only('jobs', ['store', 'mail', 'core', 'log']),
    only('api', ['jobs', 'store', 'mail', 'core', 'log']),
    only('log', []),
    only('web', ['log']),
    only('pages', ['api', 'islands', 'ui']),
    only('workers', ['core']),
    only('ui', ['workers', 'core']),
    only('islands', ['ui', 'workers', 'core']),
    {
      name: 'core-does-no-io',
      comment: 'core has no clock, no disk, no network: it may use no module of Node.',
      severity: 'error',
      from: { path: '^src/core/', pathNot: '\\.test\\.ts$' },
      to: { dependencyTypes: ['core'] },
    },
    {
      name: 'stand-in-takes-only-pure-helpers',
      severity: 'error',
      from: { path: '^stand-in/' },
      to: { path: '^(src/(?!core/)|test/|bench/)' },
    },
    { name: 'no-cycles', severity: 'error', from: {}, to: { circular: true } },
    {
      name: 'product-never-imports-tests',
      severity: 'error',
      from: { path: '^src/', pathNot: '\\.test\\.tsx?$' },
      to: { path: '^(test|bench|stand-in)/' },
    },
  ],
  options: {
    doNotFollow: { path: 'node_modules' },
    tsConfig: { fileName: 'tsconfig.json' },
    tsPreCompilationDeps: true,
    enhancedResolveOptions: {
      exportsFields: ['exports'],
      conditionNames: ['import', 'node', 'default'],
      extensions: ['.ts', '.tsx', '.js', '.mjs', '.cjs', '.json'],
    },
  },
};
