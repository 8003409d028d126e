import { type FormEvent, useId } from 'react';
import type { Level } from '../../contract/types';
import { CHOSEN_ROLES, type ChosenRole, type ChosenRoles } from '../../core/mailbox/roles';
import { useChange } from '../api/account';
import { Refused } from '../State';
import { text } from '../text';

/** What folders are for, where the server does not mark them: proposed by their names, to be confirmed or changed. */
export function RolesForm({ level, onDone }: { level: Level; onDone?: () => void }) {
  const save = useChange<ChosenRoles>(
    () => '/settings',
    'PATCH',
    (roles) => ({ roles }),
    ['settings', 'level', 'scan'],
    onDone,
  );
  const id = useId();
  const isProposed = level.folders.some(({ roleBy }) => roleBy === 'name');
  const folderOf = (role: ChosenRole) => level.folders.find((folder) => folder.role === role);
  const open = CHOSEN_ROLES.filter((role) => folderOf(role)?.roleBy !== 'server');
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    save.mutate(Object.fromEntries(open.map((role) => [role, `${form.get(role)}` || null])));
  };
  return (
    <form onSubmit={submit} className="grid gap-2">
      <h2>{text.roles.title}</h2>
      {isProposed && <p className="note">{text.roles.proposed}</p>}
      <div className="flex flex-wrap items-end gap-3">
        {CHOSEN_ROLES.map((role) => {
          const folder = folderOf(role);
          return (
            <div key={role} className="grid gap-1">
              <label htmlFor={`${id}${role}`} className="note">
                {text.roles[role]}
              </label>
              {folder?.roleBy === 'server' ? (
                <p id={`${id}${role}`}>{text.roles.byServer(folder.path)}</p>
              ) : (
                <select id={`${id}${role}`} name={role} defaultValue={folder?.path ?? ''} className="field">
                  <option value="">{text.roles.none}</option>
                  {level.folders
                    .filter((each) => !each.repeats && each.role !== 'inbox' && each.roleBy !== 'server')
                    .map(({ path }) => (
                      <option key={path}>{path}</option>
                    ))}
                </select>
              )}
            </div>
          );
        })}
        {open.length > 0 && (
          <button type="submit" className="button button-chief" disabled={save.isPending}>
            {isProposed ? text.roles.right : text.roles.save}
          </button>
        )}
      </div>
      <Refused error={save.error} />
    </form>
  );
}
