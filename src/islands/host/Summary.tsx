import type { HostMailbox } from '../../contract/types';
import { text } from '../../ui/text';
import { count, octets } from '../../ui/text/format';
import { byDomain, sumsOf } from './narrow';
import { isUrgent } from './told';

/** The host at a glance: how full it is, who needs something, who is gone, and what catches the rest. */
export function Summary({ mailboxes }: { mailboxes: readonly HostMailbox[] }) {
  const all = sumsOf(mailboxes);
  const domains = byDomain(mailboxes).length;
  const urgent = mailboxes.filter(isUrgent).length;
  const idle = mailboxes.filter(({ states }) => states.includes('left') || states.includes('unused'));
  const catching = mailboxes.filter(({ stated }) => stated.catchesAll);
  const messages = catching.reduce((sum, { measured }) => sum + (measured?.messages.used ?? 0), 0);
  const most = catching.length === 1 ? (catching[0]?.measured?.messages.limit ?? null) : null;
  const cards = [
    {
      head: text.host.sum(mailboxes.length, count(mailboxes.length), domains),
      figure: text.host.ofLimit(octets(all.used, 'binary'), octets(all.limit, 'binary')),
      note: text.host.notMail(octets(all.notMail, 'binary')),
    },
    { head: text.host.needed, figure: count(urgent), note: text.host.neededNote },
    {
      head: text.host.idle,
      figure: text.host.idleFigure(count(idle.length), octets(sumsOf(idle).used, 'binary')),
      note: text.host.idleNote(
        idle.filter(({ states }) => states.includes('left')).length,
        idle.filter(({ states }) => states.includes('unused')).length,
      ),
    },
    {
      head: text.host.catching,
      figure:
        catching.length === 0
          ? '–'
          : most === null
            ? text.messages(messages, count(messages))
            : text.host.ofLimit(count(messages), count(most)),
      note:
        catching.length === 0
          ? text.host.catchingNone
          : text.host.catchingNote(octets(sumsOf(catching).used, 'binary')),
    },
  ];
  return (
    <div className="grid grid-cols-2 gap-[14px] lg:grid-cols-4">
      {cards.map(({ head, figure, note }) => (
        <section key={head} className="card">
          <h2 className="note font-normal">{head}</h2>
          <p className="figure">{figure}</p>
          <p>{note}</p>
        </section>
      ))}
    </div>
  );
}

/** Sums by domain; a domain is a button that narrows the list to it. */
export function Domains({
  mailboxes,
  domain,
  onDomain,
}: {
  mailboxes: readonly HostMailbox[];
  domain: string;
  onDomain(domain: string): void;
}) {
  const { heads } = text.host;
  const groups = byDomain(mailboxes);
  if (groups.length < 2) return null;
  return (
    <section className="card">
      <h2 className="mb-1">{text.host.byDomain}</h2>
      <div className="max-h-[30dvh] overflow-auto">
        <table className="table">
          <thead>
            <tr>
              <th scope="col">{heads.domain}</th>
              <th scope="col" className="number">
                {heads.mailboxes}
              </th>
              <th scope="col" className="number">
                {heads.used}
              </th>
              <th scope="col" className="number minor">
                {heads.limit}
              </th>
              <th scope="col" className="number minor">
                {heads.messages}
              </th>
              <th scope="col" className="number">
                {heads.mustGo}
              </th>
            </tr>
          </thead>
          <tbody>
            {groups.map(({ domain: name, sums }) => (
              <tr key={name}>
                <td className="wrap-anywhere">
                  <button
                    type="button"
                    className="link text-left"
                    aria-pressed={name === domain}
                    onClick={() => onDomain(name === domain ? '' : name)}
                  >
                    {name || text.host.noDomain}
                  </button>
                </td>
                <td className="number">{count(sums.mailboxes)}</td>
                <td className="number">{octets(sums.used, 'binary')}</td>
                <td className="number minor">{octets(sums.limit, 'binary')}</td>
                <td className="number minor">{count(sums.messages)}</td>
                <td className="number">{octets(sums.excess, 'binary')}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
