import { after, test } from 'node:test';
import { cleanUp } from '../harness';
import { runExactly } from '../other-clients';

after(cleanUp);

for (const hide of [['MOVE'], ['UIDPLUS'], ['CONDSTORE', 'QRESYNC'], ['ESEARCH']])
  test(`on Dovecot without ${hide.join(' and ')} runs do exactly what was asked while other clients act`, () =>
    runExactly(hide));
