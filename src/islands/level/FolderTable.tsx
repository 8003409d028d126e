import { DropdownMenu } from 'radix-ui';
import { useMemo, useState } from 'react';
import type { FolderLevel, Level, Lot } from '../../contract/types';
import { printText } from '../../core/criteria/print';
import { type FolderNode, folderTree, trashFolder } from '../../core/mailbox/folders';
import { fittingUnit } from '../../core/units';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { Bar } from '../../ui/Bar';
import { Link } from '../../ui/route';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count, octetsIn } from '../../ui/text/format';

type Order = 'folder' | 'messages' | 'own' | 'total';
type Node = FolderNode<FolderLevel>;

const OWN: Record<Order, (node: Node) => number> = {
  folder: () => 0,
  messages: ({ folder }) => folder?.messages ?? 0,
  own: ({ folder }) => folder?.bytes ?? 0,
  total: ({ bytes }) => bytes,
};

/** The inbox first, then by name. */
function byName(a: Node, b: Node): number {
  return Number(b.path === 'INBOX') - Number(a.path === 'INBOX') || a.name.localeCompare(b.name);
}

/** The tree as rows, siblings in the chosen order. */
function rowsOf(nodes: readonly Node[], order: Order): Node[] {
  const sorted = [...nodes].sort((a, b) => OWN[order](b) - OWN[order](a) || byName(a, b));
  return sorted.flatMap((node) => [node, ...rowsOf(node.children, order)]);
}

/** Levels of subfolders that are indented; deeper ones stand under each other. */
const MAX_INDENT = 8;

/** Every folder with its own figures and those of all below it added up. */
export function FolderTable({ level }: { level: Level }) {
  const { units } = useFigures();
  const trashNamed = useAccount().settings.trashFolder;
  const [order, setOrder] = useState<Order>('total');
  const counted = level.folders.filter(({ repeats }) => !repeats);
  const views = level.folders.filter(({ repeats }) => repeats);
  const rows = useMemo(() => rowsOf(folderTree(counted), order), [counted, order]);
  const largest = Math.max(1, ...rows.map(({ bytes }) => bytes));
  const unit = fittingUnit(largest, units);
  const trash = trashFolder(counted, trashNamed)?.path;
  const take = useChange<string, Lot>(
    () => '/lots',
    'POST',
    (where) => ({ where }),
    ['lots', 'level'],
  );
  const head = (key: Order, label: string, kind = 'number') => (
    <th
      scope="col"
      className={kind}
      aria-sort={order === key ? (key === 'folder' ? 'ascending' : 'descending') : undefined}
    >
      <button type="button" className={order === key ? 'font-semibold text-ink' : ''} onClick={() => setOrder(key)}>
        {label} {order === key ? (key === 'folder' ? '↑' : '↓') : ''}
      </button>
    </th>
  );
  return (
    <section className="card">
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-2">
        <h2>{text.level.where}</h2>
        <p className="note">
          {text.level.adds}; {unit}
        </p>
      </div>
      <table className="table">
        <thead>
          <tr>
            {head('folder', text.level.folder, '')}
            {head('messages', text.level.count)}
            {head('own', text.level.own, 'number minor')}
            {head('total', text.level.total)}
            <td />
            <td className="minor w-1/4" />
          </tr>
        </thead>
        <tbody>
          {rows.map((node) => (
            <tr key={node.path}>
              <td style={{ paddingLeft: `calc(${Math.min(node.depth, MAX_INDENT)} * var(--indent))` }}>
                <Link
                  to={
                    node.path === trash
                      ? '/trash'
                      : `/sift?where=${encodeURIComponent(`under = ${printText(node.path)}`)}`
                  }
                  aria-label={text.level.open(node.path)}
                  className="hover:underline"
                >
                  {node.name}
                </Link>
              </td>
              <td className="number">{count(node.folder?.messages ?? 0)}</td>
              <td className="number minor text-ink-2">{octetsIn(node.folder?.bytes ?? 0, unit)}</td>
              <td className="number">{octetsIn(node.bytes, unit)}</td>
              <td className="w-6">
                {node.path !== trash && node.messages > 0 && <Take node={node} take={take.mutate} />}
              </td>
              <td className="minor">
                <Bar
                  share={node.bytes / largest}
                  kind={
                    trash !== undefined && (node.path === trash || node.path.startsWith(`${trash}/`)) ? 'silt' : 'water'
                  }
                />
              </td>
            </tr>
          ))}
          {views.map((view) => (
            <tr key={view.path} className="text-ink-2">
              <td>{view.path}</td>
              <td className="number">{count(view.messages)}</td>
              <td className="number minor">{octetsIn(view.bytes, unit)}</td>
              <td className="number">–</td>
              <td />
              <td className="note">{text.level.repeats}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {take.data && (
        <p role="status" className="note mt-2">
          {text.level.taken(take.data.label)}
        </p>
      )}
      <Refused error={take.error} />
    </section>
  );
}

/** Takes a folder whole into the plan, with its subfolders or without. */
function Take({ node, take }: { node: Node; take(where: string): void }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="px-1.5 text-ink-2" aria-label={text.level.take(node.path)}>
        +
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className="card z-20 grid gap-1 p-2">
          {(node.folder?.messages ?? 0) > 0 && (
            <DropdownMenu.Item className="menu-item" onSelect={() => take(`folder = ${printText(node.path)}`)}>
              {text.level.takeAlone}
            </DropdownMenu.Item>
          )}
          {node.children.length > 0 && (
            <DropdownMenu.Item className="menu-item" onSelect={() => take(`under = ${printText(node.path)}`)}>
              {text.level.takeAll}
            </DropdownMenu.Item>
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
