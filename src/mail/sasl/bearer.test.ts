import assert from 'node:assert/strict';
import { test } from 'node:test';
import { oauthBearer, xoauth2 } from './bearer';

test('OAUTHBEARER says what the example of RFC 7628 §4.1 says, and escapes names (RFC 5801 §4)', () => {
  const token = 'vF9dft4qmTc2Nvb3RlckBhbHRhdmlzdGEuY29tCg==';
  const example = { user: 'user@example.com', host: 'server.example.com', port: 143, token };
  // The value is from memory.
  assert.equal(
    Buffer.from(oauthBearer(example)).toString('base64'),
    'bixhPXVzZXJAZXhhbXBsZS5jb20sAWhvc3Q9c2VydmVyLmV4YW1wbGUuY29tAXBvcnQ9MTQzAWF1dGg9QmVhcmVyIHZGOWRmdDRxbVRjMk52YjNSbGNrQmhiSFJoZG1semRHRXVZMjl0Q2c9PQEB',
  );
  assert.ok(oauthBearer({ ...example, user: 'a=b,c' }).startsWith('n,a=a=3Db=2Cc,\x01host='));
  assert.equal(xoauth2({ ...example, token: 't' }), 'user=user@example.com\x01auth=Bearer t\x01\x01');
});
