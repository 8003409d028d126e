import type { Space, SpaceContents } from '../../../contract/types';
import { fittingUnit } from '../../../core/units';
import { useFigures } from '../../../ui/api/account';
import { useLargestFiles, useSpaceContents } from '../../../ui/api/spaces';
import { Bar } from '../../../ui/Bar';
import { text } from '../../../ui/text';
import { count, octetsIn } from '../../../ui/text/format';
import { MarkFiles } from './MarkFiles';

/** Folders and files that are shown: the largest. */
const FOLDERS = 16;
const FILES = 8;
/** Levels of folders that are indented; deeper ones stand under each other. */
const MAX_INDENT = 8;

/** Where the files of a file space are, as the table of mail folders says it of mail. */
export function SpaceFolders({ space }: { space: Space }) {
  const contents = useSpaceContents(space).data;
  if (!contents || contents.folders.length === 0) return null;
  return <FolderRows space={space} contents={contents} />;
}

function FolderRows({ space, contents }: { space: Space; contents: SpaceContents }) {
  const { units } = useFigures();
  const shown = contents.folders.slice(0, FOLDERS);
  const others = contents.others + contents.folders.length - shown.length;
  const largest = Math.max(1, ...shown.map(({ total }) => total.bytes));
  const unit = fittingUnit(largest, units);
  // Each below the one in which it lies, siblings by size: a parent is never smaller.
  const rows = inTree(shown);
  return (
    <section className="card">
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-2">
        <h2>{text.space.whereFiles}</h2>
        <p className="note">
          {text.level.adds}; {unit}
        </p>
      </div>
      <table className="table">
        <thead>
          <tr>
            <th scope="col">{text.space.folder}</th>
            <th scope="col" className="number">
              {text.space.count}
            </th>
            <th scope="col" className="number minor">
              {text.level.own}
            </th>
            <th scope="col" className="number">
              {text.level.total}
            </th>
            <td className="minor w-1/5" />
            <td />
          </tr>
        </thead>
        <tbody>
          {rows.map(({ path, depth, shared, files, bytes, total }) => (
            <tr key={path} className={shared ? 'text-ink-2' : ''}>
              <td
                className="wrap-anywhere"
                style={{ paddingLeft: `calc(${Math.min(depth, MAX_INDENT)} * var(--indent))` }}
              >
                {path === '' ? text.space.all : path.slice(path.lastIndexOf('/') + 1)}
                {shared && <span className="note block">{text.space.sharedFolder}</span>}
              </td>
              <td className="number">{count(path === '' ? total.files : files)}</td>
              <td className="number minor text-ink-2">{octetsIn(bytes, unit)}</td>
              <td className="number">{octetsIn(total.bytes, unit)}</td>
              <td className="minor">
                <Bar share={total.bytes / largest} kind={shared ? 'stone' : 'slate'} />
              </td>
              <td className="text-right">
                {path !== '' && !shared && !isInTrash(space, path) && total.files > 0 && (
                  <MarkFiles space={space} path={path} named={{ folder: path }} />
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {others > 0 && <p className="note mt-2">{text.space.others(others, count(others))}</p>}
    </section>
  );
}

type Row = SpaceContents['folders'][number];

/** Folders in the order of a tree, each with its depth, siblings as they come. One whose parent is left out stands at the end. */
function inTree(folders: readonly Row[]): (Row & { depth: number })[] {
  const paths = new Set(folders.map(({ path }) => path));
  const below = new Map<string, Row[]>();
  for (const folder of folders) {
    if (folder.path === '') continue;
    let above = folder.path;
    do above = above.includes('/') ? above.slice(0, above.lastIndexOf('/')) : '';
    while (above !== '' && !paths.has(above));
    below.set(above, [...(below.get(above) ?? []), folder]);
  }
  const rows: (Row & { depth: number })[] = [];
  const add = (folder: Row, depth: number) => {
    rows.push({ ...folder, depth });
    for (const each of below.get(folder.path) ?? []) add(each, depth + 1);
  };
  const root = folders.find(({ path }) => path === '');
  if (root) add(root, 0);
  else for (const each of below.get('') ?? []) add(each, 0);
  return rows;
}

/** What the files of a file space are, from when, and the largest of them. */
export function SpaceKinds({ space }: { space: Space }) {
  const { octets } = useFigures();
  const contents = useSpaceContents(space).data;
  const largest = useLargestFiles(space, FILES).data ?? [];
  if (!contents || contents.kinds.length === 0) return null;
  const { kinds, years } = contents;
  return (
    <section className="card grid gap-3">
      <div className="grid gap-x-6 gap-y-3 sm:grid-cols-2">
        <Amounts
          title={text.space.byKind}
          rows={kinds.map(({ kind, ...sum }) => ({
            name: text.kinds[kind],
            paint: kind === 'picture' ? 'moss' : 'slate',
            ...sum,
          }))}
        />
        <Amounts
          title={text.space.byYear}
          rows={years.map(({ year, ...sum }) => ({ name: `${year ?? text.space.noYear}`, paint: 'slate', ...sum }))}
        />
      </div>
      <div>
        <h2 className="mb-1">{text.space.largest}</h2>
        <ul className="grid gap-0.5">
          {largest.map(({ id, path, bytes, shared }) => (
            <li key={id} className={`flex justify-between gap-4 ${shared ? 'text-ink-2' : ''}`}>
              <span className="min-w-0 wrap-anywhere">
                {path}
                {shared && <span className="note"> {text.space.sharedFolder}</span>}
              </span>
              <span className="flex shrink-0 gap-3 tabular-nums">
                {octets(bytes)}
                {!shared && !isInTrash(space, path) && <MarkFiles space={space} path={path} named={{ ids: [id] }} />}
              </span>
            </li>
          ))}
        </ul>
      </div>
    </section>
  );
}

/** Whether something is the trash of a file space, or lies in it. */
function isInTrash({ trash }: Space, path: string): boolean {
  return trash !== null && `${path}/`.startsWith(`${trash}/`);
}

/** How many files of each name, and how large all of them are. */
function Amounts({
  title,
  rows,
}: {
  title: string;
  rows: readonly { name: string; paint: 'slate' | 'moss'; files: number; bytes: number }[];
}) {
  const { octets } = useFigures();
  const most = Math.max(1, ...rows.map(({ bytes }) => bytes));
  return (
    <div>
      <h2 className="mb-1">{title}</h2>
      <table className="table">
        <tbody>
          {rows.map(({ name, paint, files, bytes }) => (
            <tr key={name}>
              <td>{name}</td>
              <td className="number">{count(files)}</td>
              <td className="number">{octets(bytes)}</td>
              <td className="w-1/4">
                <Bar share={bytes / most} kind={paint} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
