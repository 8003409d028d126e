import type { Run, Space } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { useSpaces, useSpaceTrash } from '../../ui/api/spaces';
import { Heads } from '../../ui/Heads';
import { Question } from '../../ui/Question';
import { go } from '../../ui/route';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

/** What lies in the trash of file spaces: by what brought it there, each with the way back and the way out. */
export function SpaceTrashes() {
  const spaces = useSpaces().data ?? [];
  return spaces.map((space) => <OneTrash key={space.id} space={space} />);
}

function OneTrash({ space }: { space: Space }) {
  const { octets } = useFigures();
  const trash = useSpaceTrash(space).data;
  const run = useChange<object, Run>(
    () => `/spaces/${space.id}/runs`,
    'POST',
    (body) => body,
    ['runs', 'level', 'spaces'],
    () => go('/ledger'),
  );
  if (!trash || trash.groups.length === 0) return null;
  const purge = (of: object, files: number, bytes: number, trigger: 'link' | 'button button-go') => {
    const shown = text.space.files(files, count(files));
    return (
      <Question
        title={text.trash.sure}
        prompt={text.space.type}
        sentence={text.space.purgeQuestion(shown, octets(bytes))}
        doIt={text.space.purgeAll(shown)}
        answer={files}
        onDo={() => run.mutate({ action: 'purge', ...of, expect: { files, bytes } })}
        trigger={
          <button type="button" className={trigger} disabled={run.isPending}>
            {trigger === 'link' ? text.trash.purgeIt : text.space.purgeAll(shown)}
          </button>
        }
      />
    );
  };
  const all = trash.groups.reduce((sum, { files, bytes }) => ({ files: sum.files + files, bytes: sum.bytes + bytes }), {
    files: 0,
    bytes: 0,
  });
  return (
    <section className="card min-w-0">
      <div className="flex flex-wrap items-baseline justify-between gap-2">
        <h2>{text.space.trashTitle}</h2>
        <p className="note wrap-anywhere">{trash.folder !== null && text.space.trashIn(trash.folder)}</p>
      </div>
      <table className="table">
        <Heads
          of={[[text.trash.wentIn], [text.space.count, 'number minor'], [text.ledger.bytes, 'number'], ['', 'number']]}
        />
        <tbody>
          {trash.groups.map(({ run: by, label, files, bytes }) => (
            <tr key={by ?? 0}>
              <td title={label ?? undefined}>
                {by === null ? text.space.byOthers : text.trash.byRun(by)}
                {label && <span className="minor block max-w-64 truncate text-ink-2">{label}</span>}
              </td>
              <td className="number minor">{count(files)}</td>
              <td className="number">{octets(bytes)}</td>
              <td className="text-right md:whitespace-nowrap">
                {by !== null && (
                  <>
                    <button
                      type="button"
                      className="link"
                      disabled={run.isPending}
                      onClick={() => run.mutate({ action: 'restore', run: by })}
                    >
                      {text.trash.undoRun}
                    </button>
                    {' · '}
                    {purge({ run: by }, files, bytes, 'link')}
                  </>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2">{purge({ trash: true }, all.files, all.bytes, 'button button-go')}</p>
      <Refused error={run.error} />
    </section>
  );
}
