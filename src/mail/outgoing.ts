/** How this instance reaches out; the same for every process of it. */
export interface Outgoing {
  allowPrivate: boolean;
  /** A file of certificates in PEM that are trusted besides the usual ones. */
  caFile: string | undefined;
}

/** Reads it from the environment variables that docs/operating.md lists. */
export function outgoingFrom(variables: NodeJS.ProcessEnv): Outgoing {
  return { allowPrivate: variables.TAMSEL_ALLOW_PRIVATE === '1', caFile: variables.TAMSEL_CA_FILE || undefined };
}
