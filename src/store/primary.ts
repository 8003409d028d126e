import pg from 'pg';

/** The server takes no writes: it follows another, or is on its way to becoming the primary. */
class Standby extends Error {}

/** PostgreSQL, appendix A: read_only_sql_transaction, what a server says that has become a standby. */
const READ_ONLY = '25006';

/** Whether an error says that a standby was asked: the primary, or the same server a little later, takes it. */
export function isStandby(error: Error & { code?: string }): boolean {
  return error instanceof Standby || error.code === READ_ONLY;
}

/**
 * A pool of connections to the one of several servers that takes writes, as libpq finds it with `target_session_attrs=read-write`
 * (PostgreSQL, 34.1.2), which node-postgres does not know. A new connection goes to the server that was the primary last; where that
 * is away, or follows another by now, to the next one, until each was tried once.
 */
export class PrimaryPool extends pg.Pool {
  /** @param servers an address for each. */
  constructor(
    config: pg.PoolConfig,
    private readonly servers: readonly string[],
  ) {
    super({ ...config, ...toCurrent(servers) } as pg.PoolConfig);
  }

  override connect = ((done?: Connected) => {
    if (done) return this.tryEach(this.servers.length, done);
    return new Promise((resolve, reject) => {
      this.tryEach(this.servers.length, (error, client) => (error || !client ? reject(error) : resolve(client)));
    });
  }) as pg.Pool['connect'];

  private tryEach(left: number, done: Connected): void {
    super.connect((error, client, release) => {
      if (error && left > 1) this.tryEach(left - 1, done);
      else done(error, client, release);
    });
  }
}

type Connected = (
  error: Error | undefined,
  client: pg.PoolClient | undefined,
  release: (broken?: Error | boolean) => void,
) => void;

/** What has a pool make its connections to the server that was the primary last. */
function toCurrent(servers: readonly string[]): object {
  let current = 0;
  class ToCurrent extends pg.Client {
    /** The server that it was made for. */
    readonly server = current;

    constructor(config: pg.ClientConfig = {}) {
      super({ ...config, connectionString: servers[current] as string });
    }

    /** Several that fail at once of one server move on by one. */
    moveOn(): void {
      if (this.server === current) current = (current + 1) % servers.length;
    }

    /** As the pool calls it: with a callback. */
    override connect = ((done: (error?: Error) => void) =>
      super.connect((error?: Error | null) => {
        if (error) this.moveOn();
        done(error ?? undefined);
      })) as pg.Client['connect'];
  }
  return {
    Client: ToCurrent,
    verify(client: ToCurrent, done: (error?: Error) => void) {
      client.query('select pg_is_in_recovery() as follows', (error, result) => {
        if (!error && !result.rows[0].follows) return done();
        client.moveOn();
        done(error ?? new Standby('The server follows another one.'));
      });
    },
  };
}
