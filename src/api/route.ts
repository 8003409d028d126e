import type { GenericSchema, InferInput, InferOutput } from 'valibot';
import type { Account } from '../store/access/accounts';
import type { Operator } from '../store/host/operators';
import type { Environment } from './environment';
import type { Identity } from './identity';

/** What a route gets besides what it asked for. */
export interface RequestContext {
  environment: Environment;
  request: Request;
  /** Of the peer; for limits. */
  clientAddress: string;
  /** Whether no proxy says that it passes the request on. */
  isDirect: boolean;
  /** Who asks, where somebody known does. */
  identity: Identity | undefined;
}

/** One call of the API: what it takes, what it gives, and what does it. The OpenAPI document is made of these. */
export interface Route {
  method: 'GET' | 'POST' | 'PATCH' | 'DELETE';
  /** With parameters in braces, below `/api`. `{account}` and `{operator}` are checked to be the session's. */
  path: string;
  summary: string;
  /** Whether it is a person's alone, and no script's. */
  session?: boolean;
  /** Whether it looks at a token by itself, which is none of an account's. */
  anonymous?: boolean;
  query?: GenericSchema;
  body?: GenericSchema;
  /** Whether its body is octets, which the handler reads itself. */
  takesOctets?: boolean;
  /** Whether its body may be as large as a sheet of all senders. */
  large?: boolean;
  /** Status of success and what is given with it. */
  status: number;
  response?: GenericSchema;
  /** Media types that it answers in besides that, or instead. */
  formats?: readonly string[];
  /** Other statuses of success. */
  also?: Readonly<Record<number, { description: string; response?: GenericSchema }>>;
  handle(input: RouteInput): Promise<unknown>;
}

export interface RouteInput extends RequestContext {
  parameters: Record<string, string>;
  account: Account;
  /** Of a path with `{operator}`. */
  operator: Operator;
  query: unknown;
  body: unknown;
}

/** What a handler may give where its schema names the JSON of it: instants are written as RFC 3339 has them. */
type Given<T> = T extends string
  ? string extends T
    ? T | Date
    : T
  : T extends readonly (infer Item)[]
    ? readonly Given<Item>[]
    : T extends object
      ? { [Key in keyof T]: Given<T[Key]> }
      : T;

type Answer<R> = R extends GenericSchema ? Response | Given<InferInput<R>> : unknown;

type Parsed<S> = S extends GenericSchema ? InferOutput<S> : undefined;

/** Defines a route so that its handler sees the types of its schemas. */
export function route<
  Q extends GenericSchema | undefined = undefined,
  B extends GenericSchema | undefined = undefined,
  R extends GenericSchema | undefined = undefined,
>(definition: {
  method: Route['method'];
  path: string;
  summary: string;
  session?: boolean;
  anonymous?: boolean;
  query?: Q;
  body?: B;
  large?: boolean;
  takesOctets?: boolean;
  status?: number;
  response?: R;
  formats?: readonly string[];
  also?: Route['also'];
  handle(input: Omit<RouteInput, 'query' | 'body'> & { query: Parsed<Q>; body: Parsed<B> }): Promise<Answer<R>>;
}): Route {
  return { status: 200, ...definition } as unknown as Route;
}
