/// <reference types="astro/client" />

declare namespace App {
  /** What the web server tells of a request. */
  interface Locals {
    /** Who asks; for limits. */
    clientAddress: string;
  }
}
