/** A problem that the API answered (RFC 9457). */
export class ApiProblem extends Error {
  constructor(
    readonly status: number,
    readonly type: string,
    detail: string,
    readonly errors: { field: string; at?: number; expected?: string }[],
  ) {
    super(detail);
  }
}

interface Options {
  method?: string;
  body?: unknown;
  /** A body that is no JSON. */
  octets?: Blob;
  signal?: AbortSignal;
}

/** Asks a person to show again whose mailbox it is, after a problem that wants it; whether they did. */
type Prover = (account: number, problem: ApiProblem) => Promise<boolean>;

let prover: Prover | undefined;

/** Has a component answer where a call needs a proof. Gives what takes that back. */
export function proveBy(ask: Prover): () => void {
  prover = ask;
  return () => {
    prover = undefined;
  };
}

/** Calls the API. Throws an ApiProblem where it answers one; a call that wants a proof is made again once it was given. */
export async function call<T>(path: string, options: Options = {}): Promise<T> {
  try {
    return await callOnce<T>(path, options);
  } catch (error) {
    const account = /^\/accounts\/(\d+)/.exec(path)?.[1];
    if (!(error instanceof ApiProblem) || error.type !== '/problems/prove-again' || !account || !prover) throw error;
    if (!(await prover(Number(account), error))) throw error;
    return callOnce<T>(path, options);
  }
}

async function callOnce<T>(path: string, options: Options): Promise<T> {
  const { method = 'GET', body, octets, signal } = options;
  const response = await fetch(`/api${path}`, {
    method,
    ...(body === undefined ? {} : { body: JSON.stringify(body), headers: { 'content-type': 'application/json' } }),
    ...(octets ? { body: octets, headers: { 'content-type': 'application/octet-stream' } } : {}),
    ...(signal ? { signal } : {}),
  });
  if (response.status === 204) return undefined as T;
  const type = response.headers.get('content-type') ?? '';
  if (response.ok) return (type.includes('json') ? await response.json() : await response.text()) as T;
  const problem = type.includes('json')
    ? ((await response.json()) as { type?: string; detail?: string; errors?: [] })
    : {};
  throw new ApiProblem(
    response.status,
    problem.type ?? '',
    problem.detail ?? `HTTP ${response.status}`,
    problem.errors ?? [],
  );
}

/** Prints a query, empty values left out. */
export function query(values: Record<string, string | number | undefined>): string {
  const parameters = new URLSearchParams();
  for (const [name, value] of Object.entries(values))
    if (value !== undefined && value !== '') parameters.set(name, `${value}`);
  const printed = parameters.toString();
  return printed === '' ? '' : `?${printed}`;
}
