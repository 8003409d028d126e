import { spawn } from 'node:child_process';
import { createHash } from 'node:crypto';
import { chmodSync, mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { freePort } from '../../src/cli/cluster';
import { later, temporaryFolder, until } from '../harness';

const MODULES = ['mpm_event', 'authn_core', 'authn_file', 'authz_core', 'authz_user', 'auth_basic', 'auth_digest'];
const DAV = ['dav', 'dav_fs', 'mime', 'alias'];
const REALM = 'files';

export interface FileServer {
  /** `http://127.0.0.1:8081/space/` */
  url: URL;
  /** What it serves. */
  folder: string;
}

/** Debian's Apache with mod_dav over a folder of its own, on loopback, for one user who signs in by one of two ways. */
export async function startApache(user: string, password: string, way: 'basic' | 'digest'): Promise<FileServer> {
  const root = temporaryFolder();
  const folder = join(root, 'space');
  mkdirSync(folder);
  // It gives up root's rights, and so reads and writes as another.
  chmodSync(root, 0o755);
  chmodSync(folder, 0o777);
  mkdirSync(join(root, 'locks'));
  chmodSync(join(root, 'locks'), 0o777);
  const hash = (name: 'sha1' | 'md5', text: string) => createHash(name).update(text, 'utf8');
  writeFileSync(join(root, 'basic'), `${user}:{SHA}${hash('sha1', password).digest('base64')}\n`);
  writeFileSync(
    join(root, 'digest'),
    `${user}:${REALM}:${hash('md5', `${user}:${REALM}:${password}`).digest('hex')}\n`,
  );
  const port = await freePort();
  const loaded = [...MODULES, ...DAV].map(
    (name) => `LoadModule ${name}_module /usr/lib/apache2/modules/mod_${name}.so`,
  );
  writeFileSync(
    join(root, 'apache.conf'),
    `${loaded.join('\n')}
ServerName localhost
Listen 127.0.0.1:${port}
PidFile ${join(root, 'pid')}
ErrorLog ${join(root, 'error.log')}
User www-data
Group www-data
TypesConfig /etc/mime.types
DavLockDB ${join(root, 'locks', 'locks')}
DocumentRoot ${root}
Alias /space ${folder}
AllowEncodedSlashes NoDecode
<Directory ${root}>
  Require all denied
</Directory>
<Directory ${folder}>
  Dav on
  AuthType ${way === 'basic' ? 'Basic' : 'Digest'}
  AuthName "${REALM}"
  AuthUserFile ${join(root, way)}
  ${way === 'digest' ? 'AuthDigestDomain /space/' : ''}
  Require valid-user
</Directory>
`,
  );
  const apache = spawn('/usr/sbin/apache2', ['-D', 'FOREGROUND', '-f', join(root, 'apache.conf')], {
    stdio: ['ignore', 'inherit', 'inherit'],
  });
  later(() => apache.kill('SIGTERM'));
  const url = new URL(`http://127.0.0.1:${port}/space/`);
  await until(async () => {
    if (apache.exitCode !== null) throw new Error('Apache ended before it was ready.');
    return (await fetch(url).catch(() => undefined))?.status === 401;
  });
  return { url, folder };
}
