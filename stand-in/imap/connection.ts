import type { Socket } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import { TLSSocket } from 'node:tls';
import { strikes } from '../faults';
import { OverQuota } from '../mailbox/mailbox';
import { fetch } from './fetch';
import * as folders from './folders';
import { atomOf, BadCommand, type Token, textOf, tokenise } from './grammar';
import * as messages from './messages';
import { search } from './search';
import { type Host, No, Session } from './session';
import { Disconnected, Wire } from './wire';

const CAPABILITIES = [
  'IMAP4rev1',
  'AUTH=PLAIN',
  'SASL-IR',
  'LITERAL+',
  'ID',
  'ENABLE',
  'NAMESPACE',
  'IDLE',
  'UIDPLUS',
  'MOVE',
  'SPECIAL-USE',
  'CREATE-SPECIAL-USE',
  'CHILDREN',
  'LIST-EXTENDED',
  'LIST-STATUS',
  'STATUS=SIZE',
  'ESEARCH',
  'WITHIN',
  'CONDSTORE',
  'QRESYNC',
  'SAVEDATE',
  'OBJECTID',
  'QUOTA',
  'QUOTA=RES-STORAGE',
  'QUOTA=RES-MESSAGE',
  'UNSELECT',
];

/** Commands that an extension brings, which are not there while it is hidden. */
const BROUGHT_BY: Record<string, string> = {
  MOVE: 'MOVE',
  'UID MOVE': 'MOVE',
  'UID EXPUNGE': 'UIDPLUS',
  ENABLE: 'ENABLE',
  ID: 'ID',
  IDLE: 'IDLE',
  NAMESPACE: 'NAMESPACE',
  GETQUOTA: 'QUOTA',
  GETQUOTAROOT: 'QUOTA',
  UNSELECT: 'UNSELECT',
};

/** Answers after which message numbers may not change (RFC 9051 §7.5.1): no EXPUNGE is sent then. */
const NUMBERS_STAND = new Set(['FETCH', 'STORE', 'SEARCH']);

type Handler = (session: Session, args: Token[], uid: boolean) => Promise<string | undefined> | string | undefined;

const HANDLERS: Record<string, Handler> = {
  LIST: folders.list,
  LSUB: folders.lsub,
  STATUS: folders.status,
  SELECT: (session, args) => folders.select(session, args, false),
  EXAMINE: (session, args) => folders.select(session, args, true),
  CREATE: folders.create,
  DELETE: folders.remove,
  RENAME: folders.rename,
  SUBSCRIBE: () => undefined,
  UNSUBSCRIBE: () => undefined,
  NAMESPACE: folders.namespace,
  GETQUOTA: folders.getQuota,
  GETQUOTAROOT: folders.getQuotaRoot,
  APPEND: messages.append,
  STORE: messages.store,
  COPY: messages.copy,
  MOVE: messages.move,
  EXPUNGE: messages.expunge,
  FETCH: fetch,
  SEARCH: search,
  NOOP: () => undefined,
  CHECK: () => undefined,
};

/** One connection: reads commands one after the other and answers each. */
export class Connection {
  private readonly wire: Wire;
  private readonly session: Session;

  constructor(
    private readonly host: Host,
    socket: Socket | TLSSocket,
    private secure: boolean,
  ) {
    this.wire = new Wire(socket, () => host.faults);
    this.session = new Session(host, this.wire);
  }

  async run(): Promise<void> {
    try {
      this.session.untagged(`OK [CAPABILITY ${this.capabilities()}] Saltmarsh post is ready`);
      await this.wire.flush();
      while (await this.one(await this.wire.command())) {
        // The next one.
      }
    } catch (error) {
      if (!(error instanceof Disconnected)) throw error;
    } finally {
      this.wire.close();
    }
  }

  private capabilities(): string {
    const extra = this.secure ? [] : ['STARTTLS'];
    return [...CAPABILITIES, ...extra].filter((capability) => this.session.offers(capability)).join(' ');
  }

  /** Does one command; false ends the session. */
  private async one(pieces: (string | Buffer)[]): Promise<boolean> {
    const match = /^(\S+) (UID )?(\S+) ?/i.exec(typeof pieces[0] === 'string' ? pieces[0] : '');
    if (!match) {
      this.session.untagged('BAD There is no command');
      await this.wire.flush();
      return true;
    }
    const [whole, tag, uid, word] = match as unknown as [string, string, string | undefined, string];
    const command = word.toUpperCase();
    this.session.tag = tag;
    const full = uid ? `UID ${command}` : command;
    const { faults } = this.host;
    if (strikes(faults.byeOn, full)) {
      this.session.untagged('BYE The host is going down for a moment');
      await this.wire.flush();
      return false;
    }
    if (faults.latencyMs > 0) await sleep(faults.latencyMs);
    let answer: string;
    try {
      this.refuseByFault(full);
      const octets = pieces.reduce((sum, piece) => sum + piece.length, 0);
      if (faults.longestCommand > 0 && octets > faults.longestCommand) throw new BadCommand('This line is too long');
      const brought = BROUGHT_BY[full];
      if (brought && !this.session.offers(brought)) throw new BadCommand('This command is not known here');
      const args = tokenise([(pieces[0] as string).slice(whole.length), ...pieces.slice(1)]);
      answer = await this.answer(command, args, uid !== undefined, tag);
    } catch (error) {
      if (error instanceof BadCommand) answer = `BAD ${error.message}`;
      else if (error instanceof No) answer = `NO ${error.code ? `[${error.code}] ` : ''}${error.message}`;
      else if (error instanceof OverQuota) answer = 'NO [OVERQUOTA] There is no room left in this mailbox';
      else throw error;
    }
    if (answer === '') return true;
    if (strikes(faults.dropAnswerTo, full)) throw new Disconnected();
    this.session.announce(uid !== undefined || !NUMBERS_STAND.has(command));
    this.wire.write(`${tag} ${answer}\r\n`);
    await this.wire.flush();
    return command !== 'LOGOUT';
  }

  private refuseByFault(command: string): void {
    const { faults } = this.host;
    if (faults.refuse && strikes(faults.refuse, command)) throw new No(faults.refuse.code, faults.refuse.text);
    if (faults.throttleMs > 0) {
      const now = Date.now();
      if (now < this.host.nextCommandAt) throw new No('LIMIT', 'Slow down, please');
      this.host.nextCommandAt = now + faults.throttleMs;
    }
  }

  private async answer(command: string, args: Token[], uid: boolean, tag: string): Promise<string> {
    switch (command) {
      case 'CAPABILITY':
        this.session.untagged(`CAPABILITY ${this.capabilities()}`);
        return 'OK Done';
      case 'LOGOUT':
        this.session.untagged('BYE Until next time');
        return 'OK Done';
      case 'ID':
        this.session.untagged('ID ("name" "Saltmarsh post")');
        return 'OK Done';
      case 'STARTTLS':
        return this.startTls(tag);
      case 'LOGIN':
        return this.signIn(textOf(args[0]), textOf(args[1]));
      case 'AUTHENTICATE':
        return this.authenticate(args);
      case 'ENABLE':
        return this.enable(args);
      case 'IDLE':
        return this.idle();
      case 'CLOSE':
      case 'UNSELECT':
        if (command === 'CLOSE' && this.session.selected && !this.session.selected.readOnly) {
          const { folder } = this.session.selected;
          this.session.mailbox.expunge(
            folder,
            folder.messages.filter(({ flags }) => flags.has('deleted')),
          );
        }
        this.session.selected = undefined;
        return 'OK Done';
    }
    const handler = HANDLERS[command];
    if (!handler) throw new BadCommand('This command is not known here');
    void this.session.mailbox;
    return `OK ${(await handler(this.session, args, uid)) ?? 'Done'}`;
  }

  private async startTls(tag: string): Promise<string> {
    if (this.secure) throw new BadCommand('This connection is secure already');
    const plain = this.wire.socket as Socket;
    this.wire.write(`${tag} OK Begin\r\n`);
    await this.wire.flush();
    plain.removeAllListeners('data');
    const socket = new TLSSocket(plain, { isServer: true, secureContext: this.host.secureContext });
    this.wire.attach(socket);
    this.secure = true;
    return '';
  }

  private signIn(user: string, password: string): string {
    this.session.signIn(Buffer.from(user, 'latin1').toString('utf8'), Buffer.from(password, 'latin1').toString('utf8'));
    return `OK [CAPABILITY ${this.capabilities()}] Welcome`;
  }

  /** SASL PLAIN (RFC 4616), with or without an initial response (RFC 4959). */
  private async authenticate(args: Token[]): Promise<string> {
    if (atomOf(args[0]) !== 'PLAIN') throw new No('', 'Only PLAIN is known here');
    let response = args[1] ? textOf(args[1]) : undefined;
    if (response === undefined) {
      this.wire.write('+ \r\n');
      await this.wire.flush();
      response = await this.wire.line();
    }
    const [, user = '', password = ''] = Buffer.from(response, 'base64').toString('latin1').split('\0');
    return this.signIn(user, password);
  }

  private enable(args: Token[]): string {
    const enabled = args
      .map(atomOf)
      .filter((name) => (name === 'CONDSTORE' || name === 'QRESYNC') && this.session.offers('CONDSTORE'))
      .filter((name) => this.session.offers(name));
    if (enabled.length > 0) this.session.condStore = true;
    if (enabled.includes('QRESYNC')) this.session.qresync = true;
    this.session.untagged(`ENABLED${enabled.map((name) => ` ${name}`).join('')}`);
    return 'OK Done';
  }

  private async idle(): Promise<string> {
    this.wire.write('+ Idling\r\n');
    await this.wire.flush();
    const done = this.wire.line();
    let over = false;
    void done.then(
      () => {
        over = true;
      },
      () => {
        over = true;
      },
    );
    while (!over) {
      this.session.announce(true);
      await this.wire.flush();
      await Promise.race([done, sleep(100)]);
    }
    await done;
    return 'OK Done';
  }
}
