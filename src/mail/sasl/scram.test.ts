import assert from 'node:assert/strict';
import { test } from 'node:test';
import { prepared } from './prepared';
import { ScramClient, ScramFailure } from './scram';

// The worked example of RFC 7677 §3.
const NONCE = 'rOprNGfwEbeRWgbNEkqO';
const BOTH = `${NONCE}%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0`;
const SERVER_FIRST = `r=${BOTH},s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096`;
const example = () => new ScramClient('user', 'pencil', '', NONCE);

test('SCRAM-SHA-256 says what RFC 7677 §3 says, and believes the proof that stands there', async () => {
  const client = example();
  assert.equal(client.first(), `n,,n=user,r=${NONCE}`);
  assert.equal(await client.final(SERVER_FIRST), `c=biws,r=${BOTH},p=dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ=`);
  client.verify('v=6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4=');
});

test('a server that breaks the exchange, or asks for too little or too much, is not answered (RFC 5802 §5.1, RFC 7677 §4)', async () => {
  for (const first of [
    'r=someoneElse,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096',
    `r=${NONCE},s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096`,
    `r=${BOTH},s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4095`,
    `r=${BOTH},s=W22ZaJ0SNY7soEsUEjb6gQ==,i=999999999`,
    `r=${BOTH},s=,i=4096`,
    `m=new,${SERVER_FIRST}`,
    '',
    'e=other-error',
  ])
    await assert.rejects(example().final(first), ScramFailure, first);
  const client = example();
  assert.throws(() => client.verify('v=6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4='), ScramFailure);
  await client.final(SERVER_FIRST);
  for (const last of ['v=7rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4=', 'v=AAAA', 'e=invalid-proof', ''])
    assert.throws(() => client.verify(last), ScramFailure, last);
});

test('names are escaped, whose mailbox it is stands apart, and texts are prepared (RFC 5802 §5.1, RFC 4013 §3)', () => {
  assert.equal(new ScramClient('a=b,c', '', 'other,one', 'n').first(), 'n,a=other=2Cone,n=a=3Db=2Cc,r=n');
  // The examples of RFC 4013 §3 that are not refused.
  for (const [text, wanted] of [
    ['I\u00adX', 'IX'],
    ['user', 'user'],
    ['USER', 'USER'],
    ['\u00aa', 'a'],
    ['\u2168', 'IX'],
  ] as const)
    assert.equal(prepared(text), wanted);
});
