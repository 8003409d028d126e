import { Popover } from 'radix-ui';
import type { Bag } from '../../contract/types';
import { useAccount } from '../../ui/api/account';
import { text } from '../../ui/text';

/** Downloads a bag in one of the forms that other programs read. */
export function TakeCopy({ bag }: { bag: Bag }) {
  const { base } = useAccount();
  const whole = `/api${base}/bags/${bag.id}/download`;
  if (bag.form === 'files')
    return (
      <a className="link" href={whole} download>
        {text.archive.copy}
      </a>
    );
  const messages = `/api${base}/archive/download?bag=${bag.id}`;
  return (
    <Popover.Root>
      <Popover.Trigger className="link">{text.archive.copy}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          aria-label={text.archive.copy}
          className="card z-20 w-80 max-w-[94vw]"
        >
          <ul className="grid gap-2">
            {(
              [
                ['bag', whole],
                ['maildir', `${messages}&form=maildir`],
                ['eml', `${messages}&form=eml`],
              ] as const
            ).map(([form, href]) => (
              <li key={form}>
                <a className="link" href={href} download>
                  {text.archive.copyAs[form]}
                </a>
                <span className="note block">{text.archive.copyNotes[form]}</span>
              </li>
            ))}
          </ul>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
