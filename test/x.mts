import { setTimeout as sleep } from 'node:timers/promises';
import { App, cleanUp, demoScenario, startStandIn, until } from './harness';

const host = await startStandIn({ scenario: demoScenario() });
const app = await App.start();
const account = await app.signIn({ port: host.plainPort });
await app.scanned(account);
host.faults.latencyMs = 800;
const lot = (await app.call('POST', `${account}/lots`, { where: 'under = Offers' })).body;
const run = (await app.call('POST', `${account}/runs`, { action: 'trash', lots: [lot.id] })).body;
const t0 = Date.now();
let paused = false;
for (let i = 0; i < 100; i++) {
  const r = (await app.call('GET', `${account}/runs/${run.id}`)).body;
  console.log(Date.now() - t0, r.state, r.done.messages, r.asked.messages);
  if (r.done.messages > 0 && !paused) {
    paused = true;
    console.log((await app.call('POST', `${account}/runs/${run.id}/pause`)).status);
  }
  if (['done', 'paused'].includes(r.state)) break;
  await sleep(100);
}
console.log(
  (await app.database.query('select seq,state,method,generation,array_length(ids,1) n from run_batch order by seq'))
    .rows,
);
await cleanUp();
process.exit();
