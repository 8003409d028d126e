import assert from 'node:assert/strict';
import { test } from 'node:test';
import { BlobWriter, TextReader, ZipWriter } from '@zip.js/zip.js';
import { pdf } from '../../stand-in/files/document';
import { words } from './words';

const told = async (octets: Uint8Array | string, type = 'application/octet-stream') => {
  const made = await words(typeof octets === 'string' ? Buffer.from(octets) : octets, type);
  return made.kind === 'words' ? made.text : made.kind === 'refused' ? `refused: ${made.reason}` : made.kind;
};

async function archive(files: Record<string, string>, password?: string): Promise<Uint8Array> {
  const writer = new ZipWriter(new BlobWriter(), { useWebWorkers: false, ...(password ? { password } : {}) });
  for (const [name, text] of Object.entries(files)) await writer.add(name, new TextReader(text));
  return new Uint8Array(await (await writer.close()).arrayBuffer());
}

test('text, HTML and PDF tell their first words', async () => {
  assert.equal(await told('name,plot\nHetty,12\n', 'text/csv'), 'name,plot\nHetty,12');
  assert.equal(await told(Buffer.from('Grüße', 'latin1'), 'text/plain'), 'Grüße');
  assert.equal(await told('<style>p{}</style><p>Dear <b>members</b></p>', 'text/html'), 'Dear members');
  assert.match(await told(pdf(4, ['the ditch was dug'], 20_000)), /^Saltmarsh Lane Allotments, \d+\nthe ditch was dug/);
});

test('office documents tell their first words, and no more of them is unpacked', async () => {
  const letter =
    '<w:document><w:body><w:p><w:r><w:t>Dear Hetty,</w:t></w:r></w:p><w:p><w:t>the beds &amp; paths</w:t></w:p></w:body></w:document>';
  assert.equal(
    await told(await archive({ '[Content_Types].xml': '<a/>', 'word/document.xml': letter })),
    'Dear Hetty,\nthe beds & paths',
  );
  assert.equal(
    await told(await archive({ 'content.xml': '<text:h>Minutes</text:h><text:p>1.<text:tab/>Water</text:p>' })),
    'Minutes\n1. Water',
  );
  const bomb = await archive({ 'content.xml': `<text:p>begins</text:p>${'<a/>'.repeat(20_000_000)}` });
  assert.ok(bomb.length < 200_000);
  assert.equal(await told(bomb), 'begins');
});

test('what has no words, or can not be read, says so', async () => {
  assert.equal(await told(''), 'refused: no-words');
  assert.equal(await told(Buffer.alloc(500)), 'refused: unknown-format');
  assert.equal(await told('%PDF-1.7\nnot one'), 'refused: damaged');
  assert.equal(await told('PK\x03\x04 not one'), 'refused: damaged');
  assert.equal(await told(await archive({ 'a.txt': 'no office document' })), 'refused: unknown-format');
  assert.equal(await told(await archive({ 'content.xml': '<a/>' }, 'secret')), 'refused: locked');
});
