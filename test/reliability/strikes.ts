import { setTimeout as sleep } from 'node:timers/promises';
import { type Lie, noFaults } from '../../stand-in/faults';
import type { StandIn } from '../../stand-in/host';
import type { Random } from '../../stand-in/message/random';
import { type App, until } from '../harness';

const COMMANDS = [
  'UID MOVE',
  'UID COPY',
  'UID STORE',
  'UID EXPUNGE',
  'EXPUNGE',
  'UID SEARCH',
  'SELECT',
  'UID FETCH',
  'APPEND',
  'LIST',
];

const KINDS = [
  'kill worker',
  'kill worker',
  'kill web',
  'kill database',
  'two workers',
  'drop',
  'cut',
  'lose answer',
  'lose answer',
  'bye',
  'limit',
  'throttle',
  'lie',
  'lie',
  'pause',
] as const;

/** Answers that end with OK and are wrong. */
const LIES: readonly Lie[] = [
  'silent search',
  'empty search',
  'endless set',
  'short set',
  'half fetch',
  'empty select',
  'short list',
];

/** Faults at random points. */
export class Strikes {
  constructor(
    private readonly app: App,
    private readonly host: StandIn,
    private readonly random: Random,
    private readonly report: { strikes: Record<string, number>; story: string[] },
  ) {}

  async one(runPath: string): Promise<void> {
    const kind = this.random.pick(KINDS);
    this.report.strikes[kind] = (this.report.strikes[kind] ?? 0) + 1;
    const command = this.random.pick(COMMANDS);
    this.report.story.push(`${kind}${/answer|bye|limit/.test(kind) ? ` ${command}` : ''}`);
    const { app, host, random } = this;
    switch (kind) {
      case 'kill worker':
        await app.killWorker();
        app.startWorker();
        return;
      case 'kill web':
        await app.killWeb();
        await app.startWeb();
        return;
      case 'kill database':
        await app.killDatabase();
        return;
      case 'two workers':
        await this.twoWorkers();
        return;
      case 'drop':
        host.dropAll();
        return;
      case 'cut':
        host.faults.dropAfterBytes = random.between(400, 12_000);
        await sleep(random.between(100, 600));
        host.faults.dropAfterBytes = 0;
        return;
      case 'lose answer':
        host.faults.dropAnswerTo = { command, times: 1 };
        return;
      case 'bye':
        host.faults.byeOn = { command, times: 1 };
        return;
      case 'limit':
        host.faults.refuse = {
          command,
          code: random.pick(['LIMIT', 'INUSE', 'UNAVAILABLE']),
          text: 'Later, please',
          times: random.between(1, 3),
        };
        return;
      case 'throttle':
        host.faults.throttleMs = random.between(20, 120);
        await sleep(random.between(200, 900));
        host.faults.throttleMs = 0;
        return;
      case 'lie':
        host.faults.lie = { kind: random.pick(LIES), times: random.between(1, 2) };
        return;
      case 'pause': {
        const paused = await app.call('POST', `${runPath}/pause`).catch(() => undefined);
        if (paused?.status !== 202) return;
        await until(async () => {
          const state = (await app.call('GET', runPath).catch(() => undefined))?.body?.state;
          if (state === 'paused') await app.call('POST', `${runPath}/resume`);
          return ['paused', 'done', 'failed', 'cancelled'].includes(state);
        });
        return;
      }
    }
  }

  /** One worker is stopped for longer than its lease lasts and another begins; then both go on. */
  private async twoWorkers(): Promise<void> {
    const { app } = this;
    const first = app.workerPid;
    if (first === undefined) return;
    process.kill(first, 'SIGSTOP');
    app.addWorker();
    await sleep(3_500);
    process.kill(first, 'SIGCONT');
    await sleep(this.random.between(200, 800));
    await app.killExtraWorker();
  }

  /** Nothing more goes wrong. */
  calm(): void {
    const { dropAnswerTo, byeOn, refuse, throttleMs, dropAfterBytes, lie } = noFaults();
    Object.assign(this.host.faults, { dropAnswerTo, byeOn, refuse, throttleMs, dropAfterBytes, lie });
  }
}
