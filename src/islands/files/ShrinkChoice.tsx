import { useQuery } from '@tanstack/react-query';
import { SHRUNK_LENGTHS, type Shrinking } from '../../core/files/shrinking';
import { useAccount, useFigures } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { text } from '../../ui/text';

/** How pictures are made smaller. */
export function ShrinkChoice({ by, onChange }: { by: Shrinking; onChange(by: Shrinking): void }) {
  return (
    <fieldset className="grid gap-1">
      {SHRUNK_LENGTHS.map((longest) => (
        <label key={longest} className="flex items-baseline gap-2">
          <input
            type="radio"
            name="longest"
            checked={by.longest === longest}
            onChange={() => onChange({ ...by, longest })}
          />
          <span>
            {text.files.longest(longest)}: {text.files.lengths[longest]}
          </span>
        </label>
      ))}
      <label className="flex items-baseline gap-2">
        <input
          type="checkbox"
          checked={by.place === 'remove'}
          onChange={(event) => onChange({ ...by, place: event.target.checked ? 'remove' : 'keep' })}
        />
        {text.files.removePlace}
      </label>
    </fieldset>
  );
}

interface Smaller {
  before: number;
  after: number;
  width: number;
  height: number;
  picture: string;
}

/** A picture as it is, and as it would be. @param path of the file in the API of the account. */
export function ShrunkExample({ path: file, name, by }: { path: string; name: string; by: Shrinking }) {
  const { base, account } = useAccount();
  const { octets } = useFigures();
  const path = `${base}${file}`;
  const smaller = useQuery({
    queryKey: ['smaller', account.id, file, by],
    queryFn: () => call<Smaller>(`${path}/smaller?longest=${by.longest}&place=${by.place}`),
    retry: false,
  });
  const type = /png$/i.test(name) ? 'png' : /webp$/i.test(name) ? 'webp' : 'jpeg';
  const after = smaller.data;
  return (
    <section className="grid gap-2">
      <h3 className="font-semibold wrap-anywhere">{text.files.example(name)}</h3>
      {smaller.error ? (
        <p className="note">{text.files.notShown(smaller.error.message)}</p>
      ) : !after ? (
        <p role="status">{text.files.making}</p>
      ) : (
        <div className="grid grid-cols-2 gap-2">
          <figure>
            <img src={`/api${path}/preview?size=large`} alt="" className="h-44 w-full bg-hair object-contain" />
            <figcaption>{text.files.before(octets(after.before))}</figcaption>
          </figure>
          <figure>
            <img
              src={`data:image/${type};base64,${after.picture}`}
              alt=""
              className="h-44 w-full bg-hair object-contain"
            />
            <figcaption>{text.files.afterwards(octets(after.after), after.width, after.height)}</figcaption>
          </figure>
        </div>
      )}
    </section>
  );
}
