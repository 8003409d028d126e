import { useId, useState } from 'react';
import type { Level } from '../../contract/types';
import { folderTree, withSubfolders } from '../../core/mailbox/folders';
import { useFigures } from '../../ui/api/account';
import { Question } from '../../ui/Question';
import { go } from '../../ui/route';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { useRun } from './useTrash';

/** Empties a folder outside the trash for good: Junk before all. */
export function EmptyFolder({ level }: { level: Level }) {
  const { octets } = useFigures();
  const run = useRun(() => go('/ledger'));
  const id = useId();
  const folders = level.folders.filter(({ repeats, role }) => !repeats && role !== 'trash');
  const junk = folders.find(({ role }) => role === 'junk')?.path;
  const [path, setPath] = useState(junk ?? '');
  const [below, setBelow] = useState(false);
  const parent = folderTree(folders).some((node) => hasChildren(node, path));
  const chosen = below && parent ? withSubfolders(folders, path) : folders.filter((folder) => folder.path === path);
  const messages = chosen.reduce((sum, folder) => sum + folder.messages, 0);
  const bytes = chosen.reduce((sum, folder) => sum + folder.bytes, 0);
  const shown = text.messages(messages, count(messages));
  return (
    <details className="card">
      <summary className="cursor-pointer font-semibold">{text.trash.emptyFolder}</summary>
      <div className="mt-2 flex flex-wrap items-center gap-2">
        <label htmlFor={id} className="sr-only">
          {text.sift.folder}
        </label>
        <select id={id} className="field" value={path} onChange={(event) => setPath(event.target.value)}>
          <option value="">{text.trash.chooseFolder}</option>
          {folders.map((folder) => (
            <option key={folder.path}>{folder.path}</option>
          ))}
        </select>
        {parent && (
          <label className="flex items-center gap-1">
            <input type="checkbox" checked={below} onChange={(event) => setBelow(event.target.checked)} />
            {text.trash.withSubfolders}
          </label>
        )}
        {messages > 0 && (
          <Question
            title={text.trash.sure}
            sentence={text.trash.emptyText(path, shown, octets(bytes))}
            note={text.trash.emptyNote}
            doIt={text.trash.purge(shown)}
            answer={messages}
            onDo={() =>
              run.mutate({
                action: 'purge',
                folder: path,
                ...(below && parent ? { subfolders: true } : {}),
                asOf: level.version,
                expect: { messages, bytes },
              })
            }
            trigger={
              <button type="button" className="button" disabled={run.isPending}>
                {text.trash.purge(shown)}
              </button>
            }
          />
        )}
        {path !== '' && messages === 0 && <span className="note">{text.trash.emptyAlready}</span>}
      </div>
      {run.error && (
        <p role="alert" className="mt-2 text-go">
          {run.error.message}
        </p>
      )}
    </details>
  );
}

function hasChildren(node: { path: string; children: (typeof node)[] }, path: string): boolean {
  return (node.path === path && node.children.length > 0) || node.children.some((child) => hasChildren(child, path));
}
