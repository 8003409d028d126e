import type { Socket } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import type { TLSSocket } from 'node:tls';
import { createDeflateRaw, createInflateRaw, type DeflateRaw, type InflateRaw } from 'node:zlib';
import type { Faults } from '../faults';

/** The longest line and literal that are read. */
const MAX_LINE_LENGTH = 64 * 1024;
const MAX_LITERAL_OCTETS = 64 * 2 ** 20;
/** What is sent of a long answer before the line is free for others. */
const SLICE = 32 * 1024;

export class Disconnected extends Error {}

/** How far octets may run ahead of the speed of the line, so that what they come from need not wait for each other. */
const AHEAD_MS = 50;

/** The line that all connections to a host share: one sends when the others are through. */
export class Line {
  /** That were sent over it. */
  octets = 0;
  private freeAt = 0;

  /** Waits until so many octets may be sent. */
  async pass(octets: number, bytesPerSecond: number): Promise<void> {
    this.octets += octets;
    if (bytesPerSecond <= 0) return;
    const now = performance.now();
    this.freeAt = Math.max(now, this.freeAt) + (octets / bytesPerSecond) * 1000;
    const wait = this.freeAt - now - AHEAD_MS;
    if (wait > 1) await sleep(wait);
  }
}

/** A socket as commands in and octets out, with the faults of the way between. */
export class Wire {
  private buffer: Buffer = Buffer.alloc(0);
  private waiting: (() => void) | undefined;
  private ended = false;
  private sent = 0;
  private pending: (string | Buffer)[] = [];
  private pendingSize = 0;
  private inflate: InflateRaw | undefined;
  private deflate: DeflateRaw | undefined;
  private deflated: Buffer[] = [];

  constructor(
    public socket: Socket | TLSSocket,
    private readonly faults: () => Faults,
    private readonly shared: Line,
  ) {
    this.attach(socket);
  }

  /** Goes on over another socket, after STARTTLS; what came before the handshake is thrown away (RFC 9051 §6.2.1). */
  attach(socket: Socket | TLSSocket): void {
    this.socket = socket;
    this.buffer = Buffer.alloc(0);
    socket.setNoDelay(true);
    socket.on('data', (chunk: Buffer) => {
      if (this.socket !== socket) return;
      const { latencyMs } = this.faults();
      // What was sent together comes together, so commands that follow each other wait once.
      if (latencyMs > 0) setTimeout(() => this.hear(chunk), latencyMs);
      else this.hear(chunk);
    });
    const end = () => {
      if (this.socket !== socket) return;
      this.ended = true;
      this.waiting?.();
    };
    socket.on('close', end);
    socket.on('end', end);
    socket.on('error', end);
  }

  private hear(chunk: Buffer): void {
    if (this.inflate) {
      this.inflate.write(chunk);
      return;
    }
    this.buffer = this.buffer.length === 0 ? chunk : Buffer.concat([this.buffer, chunk]);
    this.waiting?.();
  }

  /** From here on both directions are deflated (RFC 4978). */
  compress(): void {
    const inflate = createInflateRaw();
    inflate.on('data', (chunk: Buffer) => {
      this.buffer = Buffer.concat([this.buffer, chunk]);
      this.waiting?.();
    });
    inflate.on('error', () => this.close());
    // A client may have sent its first deflated octets with the command.
    if (this.buffer.length > 0) inflate.write(this.buffer);
    this.buffer = Buffer.alloc(0);
    this.inflate = inflate;
    this.deflate = createDeflateRaw();
    this.deflate.on('data', (chunk: Buffer) => this.deflated.push(chunk));
  }

  private async packed(octets: Buffer): Promise<Buffer> {
    const { deflate } = this;
    if (!deflate) return octets;
    deflate.write(octets);
    await new Promise<void>((resolve) => deflate.flush(() => resolve()));
    const packed = Buffer.concat(this.deflated);
    this.deflated = [];
    return packed;
  }

  /** A command's pieces: text, and literals as buffers between. */
  async command(): Promise<(string | Buffer)[]> {
    const pieces: (string | Buffer)[] = [];
    for (;;) {
      const line = await this.line();
      const literal = /\{(\d+)(\+?)\}$/.exec(line);
      if (!literal) {
        if (line !== '' || pieces.length === 0) pieces.push(line);
        return pieces;
      }
      const size = Number(literal[1]);
      if (size > MAX_LITERAL_OCTETS) throw new Disconnected();
      pieces.push(line.slice(0, literal.index));
      if (literal[2] !== '+') {
        this.write('+ Go on\r\n');
        await this.flush();
      }
      pieces.push(await this.octets(size));
    }
  }

  async line(): Promise<string> {
    for (;;) {
      const end = this.buffer.indexOf(10);
      if (end >= 0) {
        const line = this.buffer.subarray(0, end).toString('latin1').replace(/\r$/, '');
        this.buffer = this.buffer.subarray(end + 1);
        return line;
      }
      if (this.buffer.length > MAX_LINE_LENGTH) throw new Disconnected();
      await this.more();
    }
  }

  /** A literal: taken as it comes, so that a long one is copied once. */
  private async octets(size: number): Promise<Buffer> {
    const octets = Buffer.allocUnsafe(size);
    for (let at = 0; at < size; ) {
      while (this.buffer.length === 0) await this.more();
      const taken = this.buffer.copy(octets, at, 0, size - at);
      this.buffer = this.buffer.subarray(taken);
      at += taken;
    }
    return octets;
  }

  private async more(): Promise<void> {
    if (this.ended) throw new Disconnected();
    await new Promise<void>((resolve) => {
      this.waiting = resolve;
    });
    this.waiting = undefined;
  }

  write(octets: string | Buffer): void {
    this.pending.push(octets);
    this.pendingSize += octets.length;
  }

  /** Whether enough is pending to send it before there is more. */
  full(): boolean {
    return this.pendingSize > 128 * 1024;
  }

  async flush(): Promise<void> {
    if (this.pendingSize === 0) return;
    const plain: Buffer = Buffer.concat(
      this.pending.map((piece) => (typeof piece === 'string' ? Buffer.from(piece, 'latin1') : piece)),
    );
    this.pending = [];
    this.pendingSize = 0;
    let octets = await this.packed(plain);
    const { dropAfterBytes, bytesPerSecond } = this.faults();
    if (dropAfterBytes > 0 && this.sent + octets.length >= dropAfterBytes) {
      octets = octets.subarray(0, Math.max(0, dropAfterBytes - this.sent));
      this.socket.write(octets);
      this.close();
      throw new Disconnected();
    }
    for (let at = 0; at < octets.length; at += SLICE) {
      const slice = octets.subarray(at, at + SLICE);
      await this.shared.pass(slice.length, bytesPerSecond);
      await this.send(slice);
    }
  }

  private async send(octets: Buffer): Promise<void> {
    if (this.ended) throw new Disconnected();
    this.sent += octets.length;
    if (!this.socket.write(octets)) await this.drained();
  }

  private drained(): Promise<void> {
    const { socket } = this;
    return new Promise((resolve) => {
      const done = () => {
        socket.off('drain', done).off('close', done);
        resolve();
      };
      socket.on('drain', done).on('close', done);
    });
  }

  close(): void {
    this.ended = true;
    this.socket.destroySoon();
    this.waiting?.();
  }
}
