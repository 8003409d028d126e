import type { Socket } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import { TLSSocket } from 'node:tls';
import { strikes } from '../faults';
import { OverQuota } from '../mailbox/mailbox';
import { authenticate, PASSWORD_MECHANISMS, TOKEN_MECHANISMS } from './authenticate';
import { fetch } from './fetch';
import * as folders from './folders';
import { atomOf, BadCommand, type Token, textOf, tokenise } from './grammar';
import * as messages from './messages';
import { search } from './search';
import { type Host, No, Session } from './session';
import { Disconnected, Wire } from './wire';

const CAPABILITIES = [
  'IMAP4rev1',
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
  'COMPRESS=DEFLATE',
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
  COMPRESS: 'COMPRESS=DEFLATE',
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
  private compressed = false;

  constructor(
    private readonly host: Host,
    socket: Socket | TLSSocket,
    private secure: boolean,
  ) {
    this.wire = new Wire(socket, () => host.faults, host.line);
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
      this.host.signedIn.delete(this.session);
      this.wire.close();
    }
  }

  private capabilities(): string {
    const extra = [
      ...(this.host.faults.utf8 ? ['UTF8=ACCEPT'] : []),
      ...(this.secure ? [] : ['STARTTLS']),
      ...(this.isLoginDisabled ? ['LOGINDISABLED'] : []),
    ];
    return [...CAPABILITIES, ...this.mechanisms, ...extra]
      .filter((capability) => this.session.offers(capability))
      .join(' ');
  }

  /** Of SASL, as they are offered here and now. */
  private get mechanisms(): string[] {
    const { faults, authorization } = this.host;
    if (this.wantsTls) return [];
    const forPasswords = faults.tokensOnly ? [] : [...PASSWORD_MECHANISMS, ...(faults.saslLogin ? ['AUTH=LOGIN'] : [])];
    return [...forPasswords, ...(authorization ? TOKEN_MECHANISMS : [])].filter((name) => this.session.offers(name));
  }

  private get isLoginDisabled(): boolean {
    return this.wantsTls || this.host.faults.tokensOnly || this.host.faults.saslLogin;
  }

  /** Whether nobody may sign in before the connection is encrypted (RFC 9051 §6.2.3). */
  private get wantsTls(): boolean {
    return this.host.faults.tlsFirst && !this.secure;
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
    if (Date.now() > this.session.endsAt) {
      this.session.untagged('BYE Your token has run out');
      await this.wire.flush();
      return false;
    }
    let answer: string;
    try {
      this.refuseByFault(full);
      const octets = pieces.reduce((sum, piece) => sum + piece.length, 0);
      const limited = faults.longestCommand > 0 && command !== 'AUTHENTICATE';
      if (limited && octets > faults.longestCommand) throw new BadCommand('This line is too long');
      const brought = BROUGHT_BY[full];
      if (brought && !this.session.offers(brought)) throw new BadCommand('This command is not known here');
      const args = tokenise([(pieces[0] as string).slice(whole.length), ...pieces.slice(1)]);
      answer = await this.answer(command, args, uid !== undefined, tag);
    } catch (error) {
      if (error instanceof BadCommand) answer = `BAD ${error.message}`;
      else if (error instanceof No) answer = `NO ${error.code ? `[${error.code}] ` : ''}${error.message}`;
      else if (error instanceof OverQuota)
        answer = faults.wordsOnly ? 'NO Over quota' : 'NO [OVERQUOTA] There is no room left in this mailbox';
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
      case 'COMPRESS':
        return this.compress(args, tag);
      case 'LOGIN':
        if (this.wantsTls) throw new No('PRIVACYREQUIRED', 'Encrypt the connection first');
        if (this.isLoginDisabled) throw new No('', 'Passwords are not taken here');
        return this.login(textOf(args[0]), textOf(args[1]));
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

  /** RFC 4978 §3: the answer is the last that goes as it is. */
  private async compress(args: Token[], tag: string): Promise<string> {
    if (atomOf(args[0]) !== 'DEFLATE') throw new BadCommand('Only DEFLATE is known here');
    if (this.compressed) throw new No('COMPRESSIONACTIVE', 'This connection is compressed already');
    this.wire.write(`${tag} OK Begin\r\n`);
    await this.wire.flush();
    this.wire.compress();
    this.compressed = true;
    return '';
  }

  private login(...said: [user: string, password: string]): string {
    const [user = '', password = ''] = said.map((text) => Buffer.from(text, 'latin1').toString('utf8'));
    this.session.signIn(user, password);
    return `OK [CAPABILITY ${this.capabilities()}] Welcome`;
  }

  private async authenticate([mechanism, initial]: Token[]): Promise<string> {
    const name = atomOf(mechanism);
    if (!this.mechanisms.includes(`AUTH=${name}`)) throw new No('', 'This is not known here');
    const first = initial ? Buffer.from(textOf(initial), 'base64') : undefined;
    await authenticate(this.session, name, first, (text) => this.challenge(text));
    return `OK [CAPABILITY ${this.capabilities()}] Welcome`;
  }

  /** Sends a challenge and gives what the client answers. */
  private async challenge(text: string): Promise<Buffer> {
    this.wire.write(`+ ${Buffer.from(text, 'utf8').toString('base64')}\r\n`);
    await this.wire.flush();
    const line = await this.wire.line();
    if (line === '*') throw new BadCommand('The exchange was taken back');
    return Buffer.from(line, 'base64');
  }

  private enable(args: Token[]): string {
    const enabled = args
      .map(atomOf)
      .filter((name) => (name === 'CONDSTORE' || name === 'QRESYNC') && this.session.offers('CONDSTORE'))
      .filter((name) => this.session.offers(name));
    if (enabled.length > 0) this.session.condStore = true;
    if (enabled.includes('QRESYNC')) this.session.qresync = true;
    if (this.host.faults.utf8 && args.map(atomOf).includes('UTF8=ACCEPT')) {
      this.session.utf8 = true;
      enabled.push('UTF8=ACCEPT');
    }
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
