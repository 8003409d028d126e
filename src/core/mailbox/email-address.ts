import { parse } from 'tldts';
import { oneLine } from '../text';

/** An author or recipient. `address` is lower case: local parts are compared so too, as every large host does. */
export interface EmailAddress {
  name: string;
  address: string;
}

export function mailbox(name: string | undefined, address: string | undefined): EmailAddress {
  return { name: oneLine(name ?? ''), address: oneLine(address ?? '').toLowerCase() };
}

/** What follows the last @ of an address, '' where there is none. */
export function hostOf(address: string): string {
  return address.includes('@') ? address.slice(address.lastIndexOf('@') + 1) : '';
}

/**
 * The registrable domain of an address by the Public Suffix List; the whole host where it has none (a bare suffix, an
 * address literal, a name of one level), '' where there is no host.
 */
export function domainOf(address: string): string {
  const host = hostOf(address).replace(/\.$/, '');
  if (host === '') return '';
  return parse(host, { allowPrivateDomains: true }).domain ?? host;
}
