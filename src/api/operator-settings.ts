import { submissionFrom } from '../mail/submission';
import type { SessionLife } from '../store/access/sessions';
import { type Limits, limitsFrom } from './limits';

/** What the operator sets for the web server, by environment variables that docs/operating.md lists. */
export interface OperatorSettings {
  port: number;
  /** Where it listens. */
  bound: string;
  sessionLife: SessionLife;
  limits: Limits;
  /** Where the instance is reached from outside, if that differs: `https://mail-room.example`. */
  origin: URL | undefined;
  /** With which whoever is elsewhere may see the metrics. */
  metricsToken: string | undefined;
  /** Whether a submission server takes mail about work that has ended. */
  canMail: boolean;
}

const USUAL_PORT = 4321;

/** @throws Error where a variable can't be read, which names it. */
export function operatorSettingsFrom(variables: NodeJS.ProcessEnv): OperatorSettings {
  const number = (name: string, usual: number) => wholeNumber(variables, name, usual);
  // Read by others, and wrong for them too.
  for (const name of [
    'TAMSEL_LEASE_SECONDS',
    'TAMSEL_COMMAND_SECONDS',
    'TAMSEL_MAX_MESSAGES',
    'TAMSEL_MAX_MEASURED_PER_HOST',
  ])
    number(name, 1);
  return {
    port: number('TAMSEL_PORT', USUAL_PORT),
    bound: variables.TAMSEL_HOST || '127.0.0.1',
    sessionLife: {
      hours: number('TAMSEL_SESSION_HOURS', 30 * 24),
      idleMinutes: number('TAMSEL_SESSION_IDLE_MINUTES', 12 * 60),
    },
    limits: limitsFrom(number),
    origin: originIn(variables.TAMSEL_ORIGIN),
    metricsToken: metricsTokenIn(variables.TAMSEL_METRICS_TOKEN),
    canMail: submissionFrom(variables) !== undefined,
  };
}

function originIn(text: string | undefined): URL | undefined {
  if (!text) return undefined;
  const url = URL.canParse(text) ? new URL(text) : undefined;
  if (!url || !['http:', 'https:'].includes(url.protocol) || url.pathname !== '/' || url.search || url.username)
    throw new Error('The variable TAMSEL_ORIGIN must be an address such as https://mail-room.example.');
  return url;
}

function metricsTokenIn(text: string | undefined): string | undefined {
  if (!text) return undefined;
  if (!/^[\w.~+/=-]{16,200}$/.test(text))
    throw new Error('The variable TAMSEL_METRICS_TOKEN must have 16 to 200 letters, digits or .~+/=-_ signs.');
  return text;
}

function wholeNumber(variables: NodeJS.ProcessEnv, name: string, usual: number): number {
  const value = variables[name];
  if (!value) return usual;
  if (!/^[1-9]\d{0,8}$/.test(value)) throw new Error(`The variable ${name} must be a whole number above zero.`);
  return Number(value);
}
