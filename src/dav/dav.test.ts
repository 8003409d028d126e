import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { BadPath, collectionOf, memberPath, nameOf, normalPath, shownPath } from '../core/space/path';
import { readChallenges } from './challenges';
import { Digest } from './digest';
import { type Part, readMultistatus } from './multistatus';
import { SpaceProblem } from './problem';

async function* inPieces(text: string, size = 7): AsyncGenerator<Uint8Array> {
  const octets = Buffer.from(text, 'utf8');
  for (let at = 0; at < octets.length; at += size) yield octets.subarray(at, at + size);
}

async function read(text: string, most = 1e6): Promise<Part[]> {
  const parts: Part[] = [];
  for await (const part of readMultistatus(inPieces(text), most)) parts.push(part);
  return parts;
}

const told = async (text: string) => (await read(text)).flatMap((part) => ('told' in part ? [part.told] : []));

/** RFC 4918 §9.1.4, with the author's and other properties that are not asked for. */
const ALLPROP = `<?xml version="1.0" encoding="utf-8" ?>
<D:multistatus xmlns:D="DAV:">
  <D:response>
    <D:href>/container/</D:href>
    <D:propstat>
      <D:prop xmlns:R="http://ns.example/boxschema/">
        <R:bigbox><R:BoxType>Box type A</R:BoxType></R:bigbox>
        <R:author><R:Name>Tern</R:Name></R:author>
        <D:creationdate>1997-12-01T17:42:21-08:00</D:creationdate>
        <D:displayname>Example collection</D:displayname>
        <D:resourcetype><D:collection/></D:resourcetype>
        <D:supportedlock>
          <D:lockentry>
            <D:lockscope><D:exclusive/></D:lockscope>
            <D:locktype><D:write/></D:locktype>
          </D:lockentry>
          <D:lockentry>
            <D:lockscope><D:shared/></D:lockscope>
            <D:locktype><D:write/></D:locktype>
          </D:lockentry>
        </D:supportedlock>
      </D:prop>
      <D:status>HTTP/1.1 200 OK</D:status>
    </D:propstat>
  </D:response>
  <D:response>
    <D:href>/container/front.html</D:href>
    <D:propstat>
      <D:prop xmlns:R="http://ns.example/boxschema/">
        <R:bigbox><R:BoxType>Box type B</R:BoxType></R:bigbox>
        <D:creationdate>1997-12-01T18:27:21-08:00</D:creationdate>
        <D:displayname>Example HTML resource</D:displayname>
        <D:getcontentlength>4525</D:getcontentlength>
        <D:getcontenttype>text/html</D:getcontenttype>
        <D:getetag>"zzyzx"</D:getetag>
        <D:getlastmodified>Mon, 12 Jan 1998 09:25:56 GMT</D:getlastmodified>
        <D:resourcetype/>
      </D:prop>
      <D:status>HTTP/1.1 200 OK</D:status>
    </D:propstat>
  </D:response>
</D:multistatus>`;

/** RFC 4331 §3, the answer to the example. */
const QUOTA = `<?xml version="1.0" encoding="utf-8" ?>
<D:multistatus xmlns:D="DAV:">
  <D:response>
    <D:href>http://www.example/~tern/public/</D:href>
    <D:propstat>
      <D:prop>
        <D:quota-available-bytes>596650</D:quota-available-bytes>
        <D:quota-used-bytes>403350</D:quota-used-bytes>
      </D:prop>
      <D:status>HTTP/1.1 200 OK</D:status>
    </D:propstat>
  </D:response>
</D:multistatus>`;

test('the examples of RFC 4918 §9.1.4, RFC 4331 and RFC 6578 §3.8', async () => {
  const [container, front] = await told(ALLPROP);
  assert.deepEqual([container?.href, container?.isCollection], ['/container/', true]);
  assert.deepEqual(
    [front?.href, front?.isCollection, front?.length, front?.type, front?.etag, front?.modified?.toISOString()],
    ['/container/front.html', false, 4525, 'text/html', '"zzyzx"', '1998-01-12T09:25:56.000Z'],
  );
  const [quota] = await told(QUOTA);
  assert.deepEqual([quota?.quotaAvailable, quota?.quotaUsed], [596_650, 403_350]);
  assert.equal(normalPath(quota?.href ?? ''), '/~tern/public/');
  const synced = await read(`<?xml version="1.0" encoding="utf-8" ?>
   <D:multistatus xmlns:D="DAV:">
     <D:response>
       <D:href>http://webdav.example/home/grebe/test.doc</D:href>
       <D:propstat>
         <D:prop><D:getetag>"00001-abcd1"</D:getetag>
           <R:bigbox xmlns:R="urn:ns.boxes.example:boxschema"><R:BoxType>Box type A</R:BoxType></R:bigbox></D:prop>
         <D:status>HTTP/1.1 200 OK</D:status>
       </D:propstat>
     </D:response>
     <D:response>
       <D:href>http://webdav.example/home/grebe/vcard.vcf</D:href>
       <D:propstat>
         <D:prop><D:getetag>"00002-abcd1"</D:getetag></D:prop>
         <D:status>HTTP/1.1 200 OK</D:status>
       </D:propstat>
       <D:propstat>
         <D:prop><R:bigbox xmlns:R="urn:ns.boxes.example:boxschema"/></D:prop>
         <D:status>HTTP/1.1 404 Not Found</D:status>
       </D:propstat>
     </D:response>
     <D:sync-token>http://webdav.example/ns/sync/1234</D:sync-token>
   </D:multistatus>`);
  assert.deepEqual(
    synced.map((part) => ('told' in part ? part.told.etag : part.syncToken)),
    ['"00001-abcd1"', '"00002-abcd1"', 'http://webdav.example/ns/sync/1234'],
  );
});

test('a prefix is any name, a status may stand before its properties, and a report is told by its name', async () => {
  const [one] = await told(`<multistatus xmlns="DAV:" xmlns:x="urn:x"><response><href> /a/b%20c </href>
    <propstat><status>HTTP/1.1 200 OK</status><prop><getetag><![CDATA["a&b"]]></getetag><x:getetag>other</x:getetag>
    <supported-report-set><supported-report><report><sync-collection/></report></supported-report></supported-report-set>
    </prop></propstat></response></multistatus>`);
  assert.deepEqual([one?.href, one?.etag, one?.reports], ['/a/b%20c', '"a&b"', ['sync-collection']]);
});

test('what is cut off at any octet, or is no multistatus, is an error', async () => {
  const whole = QUOTA.trimEnd();
  for (let length = 0; length < whole.length; length++)
    await assert.rejects(read(whole.slice(0, length)), SpaceProblem, `${length}`);
  for (const bad of [
    '<html xmlns="DAV:"/>',
    '<multistatus/>',
    '<D:multistatus xmlns:D="DAV:"><D:response/></D:multistatus>',
    ALLPROP.replace('4525', '-1'),
    ALLPROP.replace('4525', '99999999999999999999'),
    ALLPROP.replace('HTTP/1.1 200 OK', 'fine'),
    ALLPROP.replaceAll('<D:status>HTTP/1.1 200 OK</D:status>', ''),
    `<!DOCTYPE a [<!ENTITY b "c"><!ENTITY d "&b;&b;">]>${ALLPROP.slice(40)}`,
    ALLPROP.replace('4525', '&many;'),
    `<multistatus xmlns="DAV:">${'<a>'.repeat(100)}`,
    `<multistatus xmlns="DAV:"><response><href>/${'a'.repeat(20_000)}</href>`,
  ])
    await assert.rejects(read(bad), { kind: 'unreadable-answer' }, bad.slice(0, 80));
  await assert.rejects(read(ALLPROP, 1_000), /longer/);
  await assert.rejects(
    (async () => {
      for await (const _ of readMultistatus(
        (async function* () {
          yield Uint8Array.of(0xff, 0xfe);
        })(),
        100,
      ));
    })(),
    { kind: 'unreadable-answer' },
  );
});

test('every name has one path, whatever signs it has, and comes back from it', () => {
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme', minLength: 1, maxLength: 40 }), (name) => {
      if (name === '.' || name === '..' || name.includes('\0') || !name.isWellFormed()) return;
      const path = memberPath('/home/', name);
      assert.equal(nameOf(path), name);
      assert.equal(normalPath(path), path);
      assert.equal(normalPath(`/home/${encodeURIComponent(name)}`), path);
      assert.equal(collectionOf(path), '/home/');
      assert.equal(collectionOf(memberPath('/home/', name, true)), '/home/');
      assert.match(path, /^[\x21-\x7e]+$/);
    }),
  );
  assert.equal(normalPath('/%7etern/f%C3%BCr/'), '/~tern/f%C3%BCr/');
  assert.equal(normalPath('https://files.example:8443/für/a,b?x#y'), '/f%C3%BCr/a%2Cb');
  assert.equal(nameOf('/a/%E9t%E9.txt'), '\uFFFDt\uFFFD.txt');
  assert.equal(shownPath('/dav/plans/2024%2F25/x', '/dav/'), 'plans/2024/25/x');
  for (const bad of [
    '',
    'a',
    '/a/../b',
    '/a/%2e%2E/b',
    '/a/./b',
    '/a//b',
    '/%0',
    '/%00',
    '/%zz',
    `/${'a'.repeat(9_000)}`,
  ])
    assert.throws(() => normalPath(bad), BadPath, bad);
});

test('challenges as RFC 9110 §11.6.1 and RFC 7616 §3.9 write them; what is none ends them, and no field takes long', () => {
  assert.deepEqual(
    readChallenges('Basic realm="simple", Newauth realm="apps", type=1, title="Login to \\"apps\\""').map(
      ({ scheme, parameters }) => [scheme, Object.fromEntries(parameters)],
    ),
    [
      ['basic', { realm: 'simple' }],
      ['newauth', { realm: 'apps', type: '1', title: 'Login to "apps"' }],
    ],
  );
  assert.deepEqual(readChallenges('realm="none"'), []);
  assert.deepEqual(readChallenges('a'.repeat(10_000)), []);
  readChallenges(`Basic realm="${'\\'.repeat(8_000)}`);
  readChallenges(`Basic ${'a = '.repeat(2_000)}`);
});

test('the examples of RFC 7616 §3.9.1, with SHA-256 before MD5', () => {
  const [sha, md5] = ['SHA-256', 'MD5'].map((algorithm) =>
    readChallenges(
      `Digest realm="http-auth@example.org", qop="auth, auth-int", algorithm=${algorithm},
       nonce="7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v", opaque="FQhe/qaU925kfnzjCev0ciny7QMkPqMAFRtzCUYo5tdS"`.replace(
        /\s+/g,
        ' ',
      ),
    ),
  );
  const header = (challenges: ReturnType<typeof readChallenges>) =>
    Digest.answering(challenges, 'Mufasa', 'Circle of Life')?.header(
      'GET',
      '/dir/index.html',
      'f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ',
    );
  assert.match(header(md5 ?? []) ?? '', /response="8ca523f5e9506fed4657c9700eebdbec"/);
  assert.match(
    header([...(md5 ?? []), ...(sha ?? [])]) ?? '',
    /nc=00000001, .*response="753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"/,
  );
  assert.equal(Digest.answering(readChallenges('Digest realm="a", nonce="b", qop="auth-int"'), 'a', 'b'), undefined);
});
