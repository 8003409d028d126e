import { after, test } from 'node:test';
import { cleanUp } from '../harness';
import { runExactly } from '../other-clients';

after(cleanUp);

test('on Dovecot runs do exactly what was asked while other clients act, with all extensions and without those that help most', async () => {
  await runExactly([]);
  await runExactly(['MOVE', 'UIDPLUS', 'CONDSTORE', 'QRESYNC', 'ESEARCH']);
});
