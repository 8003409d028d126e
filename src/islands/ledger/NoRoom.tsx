import { useMutation } from '@tanstack/react-query';
import type { Lot, Run } from '../../contract/types';
import { isOfFiles } from '../../core/plan/fates';
import { useAccount, useFigures } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { Question } from '../../ui/Question';
import { Link } from '../../ui/route';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

/** A mailbox too full for a copy: purge the trash first, or, as a question of its own, purge what was left directly. */
export function NoRoom({ run }: { run: Run }) {
  const { base } = useAccount();
  const { octets } = useFigures();
  const left = run.left.find(({ reason }) => reason === 'no-room');
  const purge = useMutation({
    mutationFn: async () => {
      const messages = await call<{ id: number; outcome: string }[]>(`${base}/runs/${run.id}/messages`);
      const ids = messages.filter(({ outcome }) => outcome === 'no-room').map(({ id }) => id);
      const body = { label: text.ledger.directly(run.id), fate: 'purge', ids };
      const lot = await call<Lot>(`${base}/lots`, { method: 'POST', body });
      await call<Run>(`${base}/runs`, { method: 'POST', body: { action: 'purge', lots: [lot.id] } });
    },
  });
  if (!left || run.space !== null) return null;
  if (isOfFiles(run.action))
    return (
      <span className="block">
        {text.ledger.noRoomToStrip}{' '}
        <Link to="/trash" className="link">
          {text.ledger.toTrash}
        </Link>
      </span>
    );
  const messages = text.messages(left.messages, count(left.messages));
  return (
    <span className="block">
      {text.ledger.noRoom}{' '}
      <Link to="/trash" className="link">
        {text.ledger.toTrash}
      </Link>
      {' · '}
      <Question
        title={text.trash.sure}
        sentence={text.review.purgeQuestion(messages, octets(left.bytes))}
        doIt={text.review.goPurge(messages)}
        answer={left.messages}
        onDo={() => purge.mutate()}
        trigger={
          <button type="button" className="link" disabled={purge.isPending || purge.isSuccess}>
            {text.ledger.purgeDirectly}
          </button>
        }
      />
      {purge.error && <span className="block text-go">{purge.error.message}</span>}
    </span>
  );
}
