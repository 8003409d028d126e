import { useQuery } from '@tanstack/react-query';
import { Popover } from 'radix-ui';
import { useState } from 'react';
import type { FileAmount, Forecast } from '../../contract/types';
import { type Gauge, gaugeOf, type Measure } from '../../core/level/gauge';
import { useAccount, useChange, useFigures, useLevel, useRuns, useScan } from '../../ui/api/account';
import { useArchive } from '../../ui/api/archive';
import { call } from '../../ui/api/call';
import { firstFull, MONTH_MS, useForecast } from '../../ui/api/forecast';
import { useProvenCopies } from '../../ui/api/repeats';
import { signOut } from '../../ui/api/signOut';
import { Link } from '../../ui/route';
import { text } from '../../ui/text';
import { ago, count, percent } from '../../ui/text/format';
import { SettingsSheet } from '../settings/Settings';

/** The places in the order of the work, each with its own figure; at the right whose mailbox it is and how fresh. */
export function Places({ path }: { path: string }) {
  const { base, account } = useAccount();
  const { octets, amount } = useFigures();
  const level = useLevel().data;
  const runs = useRuns().data?.runs ?? [];
  const senders = useQuery({
    queryKey: ['senders', account.id, 'count'],
    queryFn: () => call<{ total: number; complete: boolean }>(`${base}/senders?by=address&limit=1`),
    staleTime: 60_000,
  });
  const files = useQuery({
    queryKey: ['files', account.id, 'total'],
    queryFn: () => call<{ total: FileAmount; complete: boolean }>(`${base}/files?limit=1`),
    staleTime: 60_000,
  }).data;
  const archive = useArchive().data;
  const copies = useProvenCopies().data;
  const won = runs.filter(({ action }) => action === 'purge').reduce((sum, { done }) => sum + done.bytes, 0);
  const figures: [string, string, string][] = [
    ['/level', text.places.level, level ? fullness(gaugeOf(level), amount) : ''],
    ['/sift', text.places.sift, level ? text.messages(level.mail.messages, count(level.mail.messages)) : ''],
    [
      '/senders',
      text.places.senders,
      senders.data?.complete || senders.data?.total
        ? text.places.addresses(senders.data.total, count(senders.data.total))
        : '',
    ],
    ['/files', text.places.files, files?.complete || files?.total.files ? octets(files.total.bytes) : ''],
    ['/repeats', text.places.repeats, copies ? octets(copies.twins.going.bytes + copies.files.going.bytes) : ''],
    [
      '/trash',
      text.places.trash,
      level
        ? text.places.trashFigure(
            count(level.trash.messages + (level.space?.trash.files ?? 0)),
            octets(level.trash.bytes + (level.space?.trash.bytes ?? 0)),
          )
        : '',
    ],
    ['/archive', text.places.archive, archive ? text.places.safe(octets(archive.bytes + archive.files.bytes)) : ''],
    ['/ledger', text.places.ledger, text.places.wonBack(octets(won))],
    ['/upkeep', text.places.upkeep, untilFull(useForecast().data)],
  ];
  return (
    <header className="places">
      <nav aria-label={text.places.label} className="flex">
        {figures.map(([to, name, figure]) => (
          <Link key={to} to={to} className="place" aria-current={path === to ? 'page' : undefined}>
            <span className="font-semibold">{name}</span>
            <span className="note">{figure || ' '}</span>
          </Link>
        ))}
      </nav>
      <AccountCorner />
    </header>
  );
}

function fullness({ of, used, limit }: Gauge, amount: (of: Measure, number: number) => string): string {
  if (!limit) return text.places.noLimit(amount(of, used));
  return of === 'bytes' ? text.places.full(percent(used / limit)) : text.places.fullByNumber(percent(used / limit));
}

function untilFull(forecast: Forecast | undefined): string {
  if (!forecast?.growth || forecast.limit === null) return '';
  const likely = firstFull(forecast)?.likely;
  if (!likely) return text.places.notSoon;
  return text.places.fullIn(text.upkeep.inTime((Date.parse(likely) - Date.parse(forecast.at)) / MONTH_MS));
}

function AccountCorner() {
  const { account } = useAccount();
  const scan = useScan().data;
  const [settings, setSettings] = useState(false);
  const again = useChange<void>(
    () => '/scans',
    'POST',
    () => ({}),
    ['scan'],
  );
  const going = scan?.state === 'queued' || scan?.state === 'running';
  const freshness = !scan
    ? text.account.never
    : going
      ? scan.waits
        ? text.account.waits[scan.waits]
        : text.account.scanning(count(scan.messages.done), count(scan.messages.total))
      : scan.state === 'failed'
        ? text.account.scanFailed
        : text.account.scanned(ago(scan.endedAt ?? scan.createdAt));
  return (
    <div className="ml-auto flex flex-col justify-center text-right whitespace-nowrap">
      <Popover.Root>
        <Popover.Trigger className="text-right">
          <span className="block font-semibold">{account.user}</span>
          <span className="note" role="status" suppressHydrationWarning>
            {freshness}
          </span>
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            align="end"
            sideOffset={4}
            aria-label={text.account.menu}
            className="card z-20 flex flex-col items-stretch gap-2"
          >
            {scan?.problem && <p className="max-w-64 text-go">{scan.problem.detail}</p>}
            <button type="button" className="button" disabled={going} onClick={() => again.mutate()}>
              {text.account.scanAgain}
            </button>
            <button type="button" className="button" onClick={() => setSettings(true)}>
              {text.account.settings}
            </button>
            <a className="button text-center" href="/accounts">
              {text.account.all}
            </a>
            <a className="button text-center" href="/sign-in?another">
              {text.account.another}
            </a>
            <button type="button" className="button" onClick={() => void signOut()}>
              {text.account.signOut}
            </button>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      <SettingsSheet open={settings} onClose={() => setSettings(false)} />
    </div>
  );
}
