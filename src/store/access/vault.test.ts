import assert from 'node:assert/strict';
import { randomBytes } from 'node:crypto';
import { chmodSync, mkdtempSync, rmSync, statSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { test } from 'node:test';
import { Vault } from './vault';

test('a credential opens for its account only, with the key it names, and not when altered', () => {
  const [old, fresh] = [randomBytes(32), randomBytes(32)];
  const sealed = new Vault([old]).seal('seven', 'päss wörd');
  const rotated = new Vault([fresh, old]);
  assert.equal(rotated.unseal('seven', sealed), 'päss wörd');
  assert.equal(rotated.unseal('eight', sealed), undefined);
  assert.equal(new Vault([fresh]).unseal('seven', sealed), undefined);
  assert.ok(!sealed.toString('latin1').includes('wörd'));
  const altered = Buffer.from(sealed);
  altered[altered.length - 1] = (altered.at(-1) as number) ^ 1;
  assert.equal(rotated.unseal('seven', altered), undefined);
});

test('the key file is made with mode 0600, and refused where others can read it', () => {
  const folder = mkdtempSync(join(tmpdir(), 'tamsel-key-'));
  const path = join(folder, 'key');
  const sealed = Vault.open(path).seal('one', 'secret');
  assert.equal(statSync(path).mode & 0o777, 0o600);
  assert.equal(Vault.open(path).unseal('one', sealed), 'secret');
  chmodSync(path, 0o644);
  assert.throws(() => Vault.open(path), /0600/);
  rmSync(folder, { recursive: true });
});
