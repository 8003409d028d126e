import { createRequire } from 'node:module';
import { dirname, join } from 'node:path';
import { tableFromArrays, tableToIPC } from 'apache-arrow';

/** Columns of a table: whole numbers as doubles, exact below 2^53. */
export type Table = Record<string, Float64Array | Int32Array>;

/** A columnar database that is none of ours, in this process, kept from fetching extensions: as a page would run it. */
export class DuckDb {
  private constructor(private readonly connection: import('@duckdb/duckdb-wasm/blocking').DuckDBConnection) {}

  static async open(): Promise<DuckDb> {
    const require = createRequire(import.meta.url);
    const { createDuckDB, NODE_RUNTIME, VoidLogger } =
      require('@duckdb/duckdb-wasm/blocking') as typeof import('@duckdb/duckdb-wasm/blocking');
    const bundle = {
      mainModule: join(dirname(require.resolve('@duckdb/duckdb-wasm')), 'duckdb-eh.wasm'),
      mainWorker: '',
    };
    const database = await createDuckDB({ mvp: bundle, eh: bundle }, new VoidLogger(), NODE_RUNTIME);
    await database.instantiate();
    const connection = database.connect();
    connection.query('set autoinstall_known_extensions = false');
    connection.query('set autoload_known_extensions = false');
    return new DuckDb(connection);
  }

  /** Takes in a table as Arrow's stream format. */
  insertStream(name: string, octets: Uint8Array): void {
    this.connection.insertArrowFromIPCStream(octets, { name });
  }

  /** Takes in a table, with all of its columns as whole numbers of 64 bits. */
  insert(name: string, table: Table): void {
    this.insertStream('given', tableToIPC(tableFromArrays(table), 'stream'));
    const columns = Object.keys(table).map((column) => `${column}::bigint as ${column}`);
    this.connection.query(`create table ${name} as select ${columns.join(', ')} from given`);
    this.connection.query('drop table given');
  }

  /** The rows of an answer, each with its values in the order of the columns. */
  query(sql: string): unknown[][] {
    return this.connection
      .query(sql)
      .toArray()
      .map((row) => Object.values(row.toJSON()));
  }

  close(): void {
    this.connection.close();
  }
}
