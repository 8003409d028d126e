import { useQuery } from '@tanstack/react-query';
import { Popover } from 'radix-ui';
import type { AccountBrief, Level, Settings } from '../../contract/types';
import { AccountAround } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { Question } from '../../ui/Question';
import { MAILBOX } from '../../ui/route';
import { Filling } from '../../ui/tank/Tank';
import { text } from '../../ui/text';

/** One mailbox of several: its tank, and the way in. */
export function AccountCard({
  account,
  level,
  onChanged,
}: {
  account: AccountBrief;
  level: Level | undefined;
  onChanged(): void;
}) {
  const settings = useQuery({
    queryKey: ['settings', account.id],
    queryFn: () => call<Settings>(`/accounts/${account.id}/settings`),
  }).data;
  const isLocked = account.state === 'locked';
  return (
    <li className={`card account ${isLocked ? 'border-go' : ''}`}>
      <div className="flex items-start gap-2">
        <div className="min-w-0 flex-1">
          <h2 className="text-[14px] wrap-anywhere">
            <Address of={account.user} />
          </h2>
          <p className="note break-all">{account.host}</p>
        </div>
        <More account={account} level={level} onChanged={onChanged} />
      </div>
      {level && settings && (
        <AccountAround account={account} settings={settings}>
          <Filling level={level} />
        </AccountAround>
      )}
      <div className="grid content-end gap-2">
        {isLocked && (
          <>
            <p role="alert" className="text-go">
              {text.accounts.locked}
            </p>
            <a href={`/sign-in?again=${account.id}`} className="button button-chief text-center">
              {text.accounts.signInAgain}
            </a>
          </>
        )}
        <a href={`/level?${MAILBOX}=${account.id}`} className={`button text-center ${isLocked ? '' : 'button-chief'}`}>
          {text.accounts.open}
        </a>
      </div>
    </li>
  );
}

/** A name that is broken before its @, if anywhere. */
function Address({ of: name }: { of: string }) {
  const at = name.lastIndexOf('@');
  if (at < 1) return name;
  return (
    <>
      {name.slice(0, at)}
      <wbr />
      {name.slice(at)}
    </>
  );
}

function More({ account, level, onChanged }: { account: AccountBrief; level: Level | undefined; onChanged(): void }) {
  const { user, host, id } = account;
  const drop = async (path: string) => {
    await call(path, { method: 'DELETE' });
    onChanged();
  };
  return (
    <Popover.Root>
      <Popover.Trigger className="link note" aria-label={text.accounts.moreOf(user)}>
        {text.accounts.more}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" aria-label={user} className="card z-20 flex flex-col items-stretch gap-2">
          <button type="button" className="button" onClick={() => void drop(`/session/accounts/${id}`)}>
            {text.accounts.leave}
          </button>
          <Question
            title={text.accounts.eraseTitle}
            sentence={text.accounts.eraseSentence(user, host)}
            answer={(level?.mail.messages ?? 0) + (level?.trash.messages ?? 0)}
            prompt={text.accounts.eraseType}
            doIt={text.accounts.eraseDo}
            keep={text.accounts.eraseKeep}
            onDo={() => void drop(`/accounts/${id}`)}
            trigger={
              <button type="button" className="button text-go">
                {text.accounts.erase}
              </button>
            }
          />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
