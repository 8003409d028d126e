import { crc32, deflateSync } from 'node:zlib';

/** A PNG header that claims a size, with next to nothing behind it (PNG, ISO/IEC 15948 §11.2.2). */
export function claimingPng(width: number, height: number): Buffer {
  const chunk = (type: string, content: Buffer) => {
    const body = Buffer.concat([Buffer.from(type, 'latin1'), content]);
    const ends = Buffer.alloc(8);
    ends.writeUInt32BE(content.length, 0);
    ends.writeUInt32BE(crc32(body), 4);
    return Buffer.concat([ends.subarray(0, 4), body, ends.subarray(4)]);
  };
  const header = Buffer.alloc(13);
  header.writeUInt32BE(width, 0);
  header.writeUInt32BE(height, 4);
  header.set([8, 2, 0, 0, 0], 8);
  return Buffer.concat([
    Buffer.from([0x89, 0x50, 0x4e, 0x47, 13, 10, 26, 10]),
    chunk('IHDR', header),
    chunk('IDAT', deflateSync(Buffer.alloc(1000))),
    chunk('IEND', Buffer.alloc(0)),
  ]);
}
