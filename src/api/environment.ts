import { isIP } from 'node:net';
import { ArchivePlace } from '../archive/place';
import { LimitedLog } from '../log/limited';
import { type Log, openLog } from '../log/log';
import { isLoopback } from '../mail/destination';
import { type OutboundConfig, outboundConfigFrom } from '../mail/outbound-config';
import { Vault } from '../store/access/vault';
import { ArchiveWords } from '../store/archive/archive-words';
import { type Database, openDatabase } from '../store/database';
import { type OperatorSettings, operatorSettingsFrom } from './operator-settings';
import { Previews } from './previews';

/** A mailbox that the sign-in page offers with one press; the demo's. */
export interface OfferedMailbox {
  host: string;
  port: number;
  security: 'tls' | 'starttls' | 'none';
  user: string;
  password: string;
  /** Who looks after the mailboxes of its host. */
  operator?: { user: string; password: string };
}

/** What a web process works with; read from its environment variables, which docs/operating.md lists. */
export interface Environment extends OperatorSettings {
  database: Database;
  vault: Vault;
  outbound: OutboundConfig;
  /** Where bags are on this machine. */
  archive: ArchivePlace;
  /** Finds texts in the archive. */
  archiveWords: ArchiveWords;
  /** What is seen of files. */
  previews: Previews;
  log: Log;
  /** Of requests that are refused. */
  refusals: LimitedLog;
  /** Host names and ports under which requests are accepted. */
  isOwnHost(host: string): boolean;
  demo: OfferedMailbox | undefined;
  /** Where the command writes down which programs it started again; undefined if another supervisor starts them. */
  restartsFile: string | undefined;
}

/** Of a statement that answers a request: freezing a million messages takes a few. */
const STATEMENT_SECONDS = 120;

let environment: Environment | undefined;

/** The environment of this process, read once. */
export function theEnvironment(): Environment {
  environment ??= read(process.env);
  return environment;
}

function read(variables: NodeJS.ProcessEnv): Environment {
  const settings = operatorSettingsFrom(variables);
  const { port, bound, origin } = settings;
  const log = openLog('web');
  const database = openDatabase(required(variables, 'TAMSEL_DATABASE_URL'), 10, STATEMENT_SECONDS);
  return {
    ...settings,
    database,
    archiveWords: new ArchiveWords(database),
    vault: Vault.open(required(variables, 'TAMSEL_KEY_FILE')),
    outbound: outboundConfigFrom(variables),
    archive: ArchivePlace.from(variables),
    previews: new Previews(),
    log,
    refusals: new LimitedLog(log),
    isOwnHost: (host) => isOwnHost(host, port, bound, origin),
    restartsFile: variables.TAMSEL_RESTARTS_FILE,
    demo: variables.TAMSEL_DEMO ? (JSON.parse(variables.TAMSEL_DEMO) as OfferedMailbox) : undefined,
  };
}

function required(variables: NodeJS.ProcessEnv, name: string): string {
  const value = variables[name];
  if (!value) throw new Error(`The variable ${name} is missing.`);
  return value;
}

/** A name that is not ours may be a page elsewhere that points its name here. Address literals can't do that. */
function isOwnHost(host: string, port: number, bound: string, origin: URL | undefined): boolean {
  if (origin && host === origin.host) return true;
  const match = /^(\[[0-9a-f:.]+\]|[^:]+)(?::(\d+))?$/i.exec(host);
  if (!match || Number(match[2] ?? 80) !== port) return false;
  const name = (match[1] as string).replace(/^\[|\]$/g, '').toLowerCase();
  if (name === 'localhost' || name === bound) return true;
  return isIP(name) !== 0 && (isLoopback(name) || !isLoopback(bound));
}
