/** One thing that is wrong in a request, and where. */
export interface FieldError {
  field: string;
  /** Characters before the place, within the field. */
  at?: number;
  expected?: string;
}

/** An answer that is a problem (RFC 9457). `type` is a stable path that docs/api.md lists. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly type: string,
    readonly title: string,
    /** For a person to act on. */
    readonly detail: string,
    readonly errors?: FieldError[],
    readonly headers: Record<string, string> = {},
    /** By which a fault of ours is found in the log: a URN. */
    readonly instance?: string,
  ) {
    super(detail);
  }

  toResponse(): Response {
    const { status, title, detail, errors } = this;
    const body = {
      type: `/problems/${this.type}`,
      title,
      status,
      detail,
      ...(errors ? { errors } : {}),
      ...(this.instance ? { instance: this.instance } : {}),
    };
    return new Response(JSON.stringify(body), {
      status,
      headers: { 'content-type': 'application/problem+json', 'cache-control': 'no-store', ...this.headers },
    });
  }
}

export const noSession = () => new Problem(401, 'no-session', 'No session', 'Sign in first.');
export const notFound = () => new Problem(404, 'not-found', 'Not found', 'This does not exist, or it is not yours.');
export const invalid = (detail: string, errors: FieldError[]) =>
  new Problem(422, 'invalid', 'Not valid', detail, errors);
export const conflict = (type: string, detail: string) => new Problem(409, type, 'Conflict', detail);
