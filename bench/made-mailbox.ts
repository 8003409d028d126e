import { App, startStandIn, tinyScenario } from '../test/harness';

/** Fills the account of the session with rows of the shape of real mailboxes (common practice, no source). */
async function fill(app: App, account: number, count: number): Promise<void> {
  const { database } = app;
  await database.query('drop index if exists message_words');
  await database.query('delete from placement where account = $1', [account]);
  await database.query('delete from message where account = $1', [account]);
  await database.query('select setseed(0.5)');
  await database.query(
    `create temp table made as select n, floor($1 * power(random(), 3))::int as sender,
       least(60e6, exp(9.2 + 1.9 * sqrt(-2 * ln(1 - random())) * cos(6.2831853 * random())) + 300)::bigint as size,
       timestamptz '2026-11-24' - interval '3650 days' * power(random(), 1.5) as received, random() as dice
     from generate_series(1, $2::int) n`,
    [Math.round(count / 80), count],
  );
  await database.query(
    `insert into message (account, id, message_id, sent, from_name, from_address, from_host, from_domain, from_name_folded,
       from_address_folded, subject, subject_folded, signs, kinds, file_count, file_bytes, thread)
     select $1, n, n::text, received - interval '1 hour', 'Sender ' || sender, 'post' || sender || '@house' || sender % 97 || '.example',
       'house' || sender % 97 || '.example', 'house' || sender % 97 || '.example', 'sender ' || sender,
       'post' || sender || '@house' || sender % 97 || '.example', 'Subject ' || n, 'subject ' || n, 0,
       case when size > 60000 then 1 << (n % 9) else 0 end, (size > 60000)::int, case when size > 60000 then size - 2000 else 0 end, n
     from made`,
    [account],
  );
  await database.query(
    `insert into placement (account, id, message, folder, generation, uid, size, received, flags, category, changed)
     select $1, n, n, f.id, f.generation, n, size, date_trunc('second', received), (dice * 8)::int, sender % 7, 1
     from made join (select f.id, min(g.id) as generation, row_number() over (order by f.id) - 1 as place, count(*) over () as many
                     from folder f join generation g on g.account = f.account and g.folder = f.id
                     where f.account = $1 and not f.repeats group by f.id) f on f.place = floor(f.many * power(dice, 3))`,
    [account],
  );
  await database.query('drop table made');
  await database.query('update account set index_version = index_version + 1 where id = $1', [account]);
  await database.query('analyze');
}

/** An application with one account, which is filled with so many messages; nothing works on it. */
export async function filled(count: number): Promise<{ app: App; path: string; account: number }> {
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start();
  const path = await app.signIn({ port: host.plainPort });
  await app.scanned(path);
  await app.killWorker();
  const account = Number(path.split('/')[2]);
  await fill(app, account, count);
  return { app, path, account };
}
