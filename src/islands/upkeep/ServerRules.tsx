import { useQuery } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import type { Rules, RuleTrial } from '../../contract/types';
import { parseCriteria } from '../../core/criteria/parse';
import { useAccount, useChange, useFigures, useLevel } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { CriteriaField } from '../../ui/criteria/CriteriaField';
import { Heads } from '../../ui/Heads';
import { MessageLines } from '../../ui/messages/MessageLines';
import { Sheet } from '../../ui/Sheet';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

const EXAMPLE = 'from ~ "fenwater.example"';

/** Rules on the mail server. It is asked only when somebody wants to see them. */
export function ServerRules() {
  const { account, base } = useAccount();
  const [wanted, setWanted] = useState(false);
  const found = useQuery({
    queryKey: ['rules', account.id],
    queryFn: () => call<Rules>(`${base}/rules`),
    enabled: wanted,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
  });
  return (
    <section className="card" aria-labelledby="rules">
      <h2 id="rules" className="font-semibold">
        {text.rules.title}
      </h2>
      <p className="note my-1">{text.rules.note}</p>
      {!found.data && (
        <button
          type="button"
          className="button"
          disabled={found.isFetching}
          onClick={() => (wanted ? void found.refetch() : setWanted(true))}
        >
          {found.isFetching ? text.rules.asking : text.rules.ask}
        </button>
      )}
      <Refused error={found.error} />
      {found.data && <Found rules={found.data} />}
    </section>
  );
}

function Found({ rules }: { rules: Rules }) {
  const { day } = useFigures();
  const [making, setMaking] = useState(false);
  const remove = useChange<number, Rules>(
    (id) => `/rules/${id}?expect=${rules.mark}`,
    'DELETE',
    () => undefined,
    ['rules'],
  );
  const act = useChange<'run' | 'restore', Rules>(
    (what) => `/rules/${what}`,
    'POST',
    () => ({ expect: rules.mark }),
    ['rules'],
  );
  const { loses } = rules;
  return (
    <div className="grid gap-2">
      {rules.rules.length === 0 ? (
        <p>{text.rules.none}</p>
      ) : (
        <table className="table">
          <Heads
            of={[
              [text.rules.rule, ''],
              [text.rules.takes, ''],
              [text.rules.into, ''],
              ['', 'number'],
            ]}
          />
          <tbody>
            {rules.rules.map(({ id, label, where, folder, isFolderGone }) => (
              <tr key={id}>
                <td className="font-semibold">{label}</td>
                <td className="font-mono text-[12px]">{where}</td>
                <td>
                  {folder}
                  {isFolderGone && <span className="ml-1 text-go">{text.rules.folderGone}</span>}
                </td>
                <td className="number">
                  <button type="button" className="link" disabled={remove.isPending} onClick={() => remove.mutate(id)}>
                    {text.rules.delete}
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {rules.rules.length > 0 && !rules.running && (
        <p className="text-go">
          {text.rules.notRunning}{' '}
          <button type="button" className="link" disabled={act.isPending} onClick={() => act.mutate('run')}>
            {text.rules.run}
          </button>
        </p>
      )}
      {rules.own !== null && rules.running && <p className="note">{text.rules.own(rules.own)}</p>}
      {loses === null && <p>{text.rules.unread}</p>}
      {loses && loses.length > 0 && (
        <div>
          <p>{text.rules.loses}</p>
          <ul className="list-disc pl-5">
            {loses.map(({ what, when }) => (
              <li key={`${what} ${when.join()}`}>
                {when.length > 0 ? when.join(', ') : text.rules.always}: {text.rules.lost[what]}
              </li>
            ))}
          </ul>
        </div>
      )}
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <button type="button" className="button" onClick={() => setMaking(true)}>
          {text.rules.make}
        </button>
        {rules.keptAt && (
          <span>
            {text.rules.kept(day(rules.keptAt))}{' '}
            <button type="button" className="link" disabled={act.isPending} onClick={() => act.mutate('restore')}>
              {text.rules.restore}
            </button>
          </span>
        )}
      </div>
      <Refused error={remove.error ?? act.error} />
      {making && <RuleForm mark={rules.mark} onClose={() => setMaking(false)} />}
    </div>
  );
}

/** A rule is tried on the last year before it is put on the server. */
function RuleForm({ mark, onClose }: { mark: string; onClose(): void }) {
  const { octets } = useFigures();
  const level = useLevel();
  const folders = (level.data?.folders ?? []).filter(({ repeats }) => !repeats);
  const trash = folders.find(({ role }) => role === 'trash')?.path;
  const [label, setLabel] = useState('');
  const [where, setWhere] = useState('');
  const [chosen, setChosen] = useState<string>();
  const [trial, setTrial] = useState<RuleTrial>();
  const folder = chosen ?? trash ?? folders[0]?.path ?? '';
  const attempt = useChange<void, RuleTrial>(
    () => '/rules/try',
    'POST',
    () => ({ where }),
    [],
    setTrial,
  );
  const add = useChange<void, Rules>(
    () => '/rules',
    'POST',
    () => ({ label: label.trim() || where, where, folder, expect: mark }),
    ['rules'],
    onClose,
  );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (trial) add.mutate();
    else attempt.mutate();
  };
  const change = (typed: string) => {
    setWhere(typed);
    setTrial(undefined);
  };
  const isReady = where.trim() !== '' && parseCriteria(where).ok && folder !== '';
  return (
    <Sheet open title={text.rules.make} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <label className="grid gap-1">
          {text.rules.rule}
          <input className="field" maxLength={200} value={label} onChange={({ target }) => setLabel(target.value)} />
        </label>
        <div className="grid gap-1">
          <span>{text.rules.takes}</span>
          <CriteriaField value={where} placeholder={EXAMPLE} onChange={change} />
        </div>
        <label className="grid gap-1">
          {text.rules.into}
          <select className="field" value={folder} onChange={({ target }) => setChosen(target.value)}>
            {folders.map(({ path }) => (
              <option key={path} value={path}>
                {path}
              </option>
            ))}
          </select>
        </label>
        {trial && (
          <MessageLines
            title={text.rules.tried(
              text.messages(trial.past.messages, count(trial.past.messages)),
              octets(trial.past.bytes),
              count(trial.seen),
            )}
            ids={trial.examples}
          />
        )}
        <div>
          <button
            type="submit"
            className="button button-chief"
            disabled={!isReady || attempt.isPending || add.isPending}
          >
            {trial ? text.rules.add : text.rules.tryIt}
          </button>
        </div>
        <Refused error={attempt.error ?? add.error} />
      </form>
    </Sheet>
  );
}
