import { collectDefaultMetrics, Gauge, Registry, type RegistryContentType } from 'prom-client';
import { isLoopback } from '../mail/destination';
import type { Counted, InstanceFigures } from '../store/metrics';
import type { RequestContext } from './route';
import { isSameSecret } from './same';

/** Figures of this process: memory, processor time, how late its loop is. */
const ofProcess = new Registry<RegistryContentType>();
collectDefaultMetrics({ register: ofProcess as Registry });

/**
 * Whether who asks may see the metrics: from this machine without a proxy between, or with the token that the operator set. A proxy on
 * this machine passes on what others ask.
 */
export function mayWatch({ request, clientAddress, isDirect, environment }: RequestContext): boolean {
  if (isDirect && isLoopback(clientAddress)) return true;
  const token = /^Bearer +(\S+)$/i.exec(request.headers.get('authorization') ?? '')?.[1];
  return token !== undefined && environment.metricsToken !== undefined && isSameSecret(token, environment.metricsToken);
}

/**
 * The figures as text: OpenMetrics 1.0 where it is asked for, else the format of before.
 *
 * @returns the text and its media type.
 */
export async function metricsText(figures: InstanceFigures, accept: string): Promise<{ text: string; type: string }> {
  const own = new Registry<RegistryContentType>();
  const gauge = (name: string, help: string, counted: readonly Counted[]) => {
    const labelNames = Object.keys(counted[0]?.labels ?? {});
    const made = new Gauge({ name: `tamsel_${name}`, help, labelNames, registers: [own as Registry] });
    for (const { labels, count } of counted) made.set(labels, count);
  };
  const one = (name: string, help: string, count: number) => gauge(name, help, [{ labels: {}, count }]);
  gauge('accounts', 'Accounts by state.', figures.accounts);
  one('operators', 'Operators of mail hosts.', figures.operators);
  one('host_mailboxes', 'Mailboxes that operators look after.', figures.hostMailboxes);
  one('sessions', 'Sessions that live.', figures.sessions);
  one('workers', 'Workers that were heard of lately.', figures.workers);
  gauge('jobs', 'Open jobs that are due, by kind and state.', figures.jobs);
  one('job_longest_wait_seconds', 'For how long the job waits that has waited longest.', figures.longestWait);
  gauge('scans', 'Scans by state.', figures.scans);
  gauge('runs', 'Runs by action and state.', figures.runs);
  gauge('run_messages', 'Messages that runs did.', figures.runMessages);
  gauge('run_bytes', 'Octets that runs did.', figures.runBytes);
  gauge('run_left_messages', 'Messages that runs left, by reason.', figures.left);
  one('indexed_messages', 'Messages of all folders, as the servers said last.', figures.indexed.messages);
  one('indexed_bytes', 'Octets of all folders, where the servers tell them.', figures.indexed.bytes);
  one('archived_messages', 'Messages in the archive.', figures.archived.messages);
  one('archived_bytes', 'Octets of messages in the archive.', figures.archived.bytes);
  one('database_bytes', 'Size of the database on its disk.', figures.databaseBytes);
  const all = Registry.merge([own as Registry, ofProcess as Registry]) as Registry<RegistryContentType>;
  const type = /application\/openmetrics-text/i.test(accept)
    ? Registry.OPENMETRICS_CONTENT_TYPE
    : Registry.PROMETHEUS_CONTENT_TYPE;
  all.setContentType(type);
  return { text: await all.metrics(), type };
}
