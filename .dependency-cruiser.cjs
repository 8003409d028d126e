/** The arrows of the house: pages → api → jobs, store, mail → core; islands → ui, workers → core; both sides → contract. */
const only = (from, allowed) => ({
  name: `${from}-reaches-only-${allowed.join('-') || 'itself'}`,
  severity: 'error',
  from: { path: `^src/${from}/`, pathNot: '\\.test\\.tsx?$' },
  to: { path: '^(src|stand-in|test|bench)/', pathNot: [`^src/(${[from, ...allowed].join('|')})/`] },
});

/** Within a room, a folder uses only those that stand before it here. */
const floors = (room, folders) =>
  folders.slice(0, -1).map((folder, at) => ({
    name: `${room}-${folder}-stands-below`,
    severity: 'error',
    from: { path: `^src/${room}/${folder}/`, pathNot: '\\.test\\.tsx?$' },
    to: { path: `^src/${room}/(${folders.slice(at + 1).join('|')})/` },
  }));

module.exports = {
  forbidden: [
    ...floors('core', [
      ...[
        'files',
        'mime',
        'mailbox',
        'archive',
        'brought',
        'sets',
        'threads',
        'authorization',
        'categories',
        'criteria',
        'sieve',
        'guards',
        'columns',
      ],
      ...['ledger', 'level', 'evidence', 'senders', 'plan', 'rhythm', 'standing'],
    ]),
    ...floors('store', ['access', 'index', 'archive', 'space', 'plan', 'runs']),
    ...floors('jobs', ['sync', 'scan', 'run']),
    ...floors('mail/imap', ['wire', 'channel', 'answers', 'fetch']),
    only('core', []),
    only('mail', ['core']),
    only('dav', ['mail', 'core']),
    only('store', ['core', 'clock']),
    only('archive', ['core']),
    only('render', ['mail', 'core']),
    only('jobs', ['render', 'archive', 'store', 'dav', 'mail', 'core', 'log', 'clock']),
    only('contract', ['core']),
    only('api', ['contract', 'jobs', 'render', 'archive', 'store', 'dav', 'mail', 'core', 'log', 'clock']),
    only('log', []),
    only('clock', []),
    only('web', ['log']),
    only('pages', ['api', 'islands', 'ui']),
    only('workers', ['contract', 'core']),
    only('ui', ['contract', 'workers', 'core']),
    only('islands', ['contract', 'ui', 'workers', 'core']),
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
