/// <reference types="astro/client" />

declare namespace App {
  /** What the web server tells of a request. */
  interface Locals {
    /** Who asks; for limits. */
    clientAddress: string;
    /** Whether no proxy says that it passes the request on. */
    isDirect: boolean;
  }
}
