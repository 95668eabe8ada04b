// Which part of the front end may import which: one way, and never in a circle.

/** A rule against imports from one set of files into another. */
const never = (name, comment, from, to) => ({ name, comment, severity: 'error', from: { path: from }, to: { path: to } });

module.exports = {
  forbidden: [
    { name: 'no-circle', severity: 'error', from: {}, to: { circular: true } },
    {
      ...never(
        'no-other-desk',
        'A desk imports from parts, api and app, never from another desk.',
        '^src/desks/([^/]+)/',
        '^src/desks/',
      ),
      to: { path: '^src/desks/', pathNot: '^src/desks/$1/' },
    },
    never('parts-below-desks', 'Shared parts know no desk and no shell.', '^src/parts/', '^src/(desks|app)/'),
    never('api-at-the-ground', 'What talks with the server knows no part of the page.', '^src/api/', '^src/(desks|app|parts)/'),
    {
      ...never('shell-below-desks', 'Only the routes know the desks.', '^src/app/', '^src/desks/'),
      from: { path: '^src/app/', pathNot: '^src/app/router.tsx$' },
    },
  ],
  options: {
    tsConfig: { fileName: 'tsconfig.json' },
    tsPreCompilationDeps: true,
    doNotFollow: { path: 'node_modules' },
    exclude: { path: 'node_modules|\\.test\\.' },
  },
};
