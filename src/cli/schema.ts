import { openDatabase } from '../store/database';
import { distribution } from '../store/spread';
import { Cluster } from './cluster';
import { EXIT, Stop } from './exits';
import { say } from './say';

/** Prints the statements by which a distributed PostgreSQL spreads the large tables by account. Nothing is changed. */
export async function printDistribution(data: string): Promise<number> {
  const url = process.env.TAMSEL_DATABASE_URL || Cluster.running(data);
  if (!url) throw new Stop(EXIT.databaseSilent, 'No database runs. Set TAMSEL_DATABASE_URL, or start Tamsel first.');
  const database = openDatabase(url, 1);
  try {
    for (const statement of await distribution(database)) say(statement);
    return 0;
  } finally {
    await database.end();
  }
}
