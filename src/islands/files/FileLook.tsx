import { useQuery } from '@tanstack/react-query';
import { Fragment, useState } from 'react';
import { useAccount, useFigures } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import type { ColumnsClient } from '../../ui/columns/client';
import { MessagePreview } from '../../ui/messages/MessagePreview';
import { Sheet } from '../../ui/Sheet';
import { text } from '../../ui/text';
import type { FileRow } from '../../workers/protocol';
import { pathOfFile } from './Thumbnail';

/** A file by itself: what it is, the text that it came with, what else came with it, and where else the same was mailed. */
export function FileLook({
  file,
  client,
  onClose,
  onMark,
}: {
  file: FileRow | undefined;
  client: ColumnsClient;
  onClose(): void;
  /** Marks files by their rows. */
  onMark(rows: number[]): void;
}) {
  return (
    <Sheet title={file ? file.name || text.files.noName : ''} open={file !== undefined} onClose={onClose}>
      {file?.place === 'space' && <KeptFacts file={file} />}
      {file?.place === 'mail' && <Facts file={file} client={client} onMark={onMark} />}
    </Sheet>
  );
}

/** A file of a file space: what it is, and where it lies. */
function KeptFacts({ file }: { file: FileRow }) {
  const { octets, dayAndTime } = useFigures();
  return (
    <>
      <Sight key={pathOfFile(file)} file={file} />
      <Pairs
        of={[
          [text.files.kind, text.files.oneOf[file.kind]],
          [text.look.size, octets(file.size)],
          [text.files.changed, dayAndTime(new Date(file.date * 1000).toISOString())],
          [text.look.folder, file.folder],
        ]}
      />
    </>
  );
}

function Pairs({ of }: { of: readonly (readonly [name: string, value: string])[] }) {
  return (
    <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1 wrap-anywhere">
      {of.map(([name, value]) => (
        <Fragment key={name}>
          <dt className="text-ink-2">{name}</dt>
          <dd>{value}</dd>
        </Fragment>
      ))}
    </dl>
  );
}

function Facts({ file, client, onMark }: { file: FileRow; client: ColumnsClient; onMark(rows: number[]): void }) {
  const { base, account } = useAccount();
  const { octets, dayAndTime } = useFigures();
  const [message, setMessage] = useState(false);
  const context = useQuery({
    queryKey: ['file-context', account.id, file.file],
    queryFn: () => client.call('fileContext', file.file),
  }).data;
  const body = useQuery({
    queryKey: ['text', account.id, file.message],
    queryFn: () => call<string>(`${base}/messages/${file.message}/text`),
  });
  return (
    <>
      <Sight key={pathOfFile(file)} file={file} />
      <Pairs
        of={[
          [text.files.kind, text.files.oneOf[file.kind]],
          [text.look.size, octets(file.size)],
          [text.sift.from, file.author || text.sift.noSender],
          [text.look.date, dayAndTime(new Date(file.date * 1000).toISOString())],
          [text.look.folder, file.folder],
          [text.files.copy, text.files.copies[file.copy]],
        ]}
      />
      <Rows
        title={text.files.alike}
        rows={context?.alike ?? []}
        onMark={onMark}
        name={({ author, folder }) => `${author}, ${folder}`}
      />
      <Rows
        title={text.files.besides}
        rows={context?.besides ?? []}
        onMark={onMark}
        name={({ name }) => name || text.files.noName}
      />
      <div className="flex items-baseline justify-between gap-3">
        <h3 className="font-semibold">{text.files.textAround}</h3>
        <button type="button" className="link" onClick={() => setMessage(true)}>
          {text.files.openMessage}
        </button>
      </div>
      {body.error ? (
        <p role="alert" className="text-go">
          {body.error.message}
        </p>
      ) : (
        body.isPending && <p role="status">{text.look.reading}</p>
      )}
      {body.data !== undefined && (
        <pre className="font-mono text-[12px] whitespace-pre-wrap wrap-anywhere">{body.data || text.look.noText}</pre>
      )}
      <MessagePreview id={message ? file.message : undefined} title={file.name} onClose={() => setMessage(false)} />
    </>
  );
}

const WITH_WORDS: ReadonlySet<FileRow['kind']> = new Set(['document', 'table', 'calendar']);

/** What is seen of a file: the picture, or its first words; or why there is neither. */
function Sight({ file }: { file: FileRow }) {
  const { base, account } = useAccount();
  const [isBroken, setBroken] = useState(false);
  const isPicture = file.kind === 'picture';
  const path = `${base}${pathOfFile(file)}`;
  const words = useQuery({
    queryKey: ['words', account.id, path],
    queryFn: () => call<string>(`${path}/words`),
    enabled: !isPicture && WITH_WORDS.has(file.kind),
    retry: false,
  });
  const why = useQuery({
    queryKey: ['no-preview', account.id, path],
    queryFn: () => call(`${path}/preview?size=large`),
    enabled: isBroken,
    retry: false,
  });
  const reason = isPicture ? why.error?.message : words.error?.message;
  if (reason !== undefined) return <p className="note">{text.files.notShown(reason)}</p>;
  if (isPicture)
    return (
      <img
        src={`/api${path}/preview?size=large`}
        alt={text.files.pictureOf(file.name || text.files.noName)}
        onError={() => setBroken(true)}
        className="max-h-[360px] min-h-24 w-full shrink-0 bg-hair object-contain"
      />
    );
  if (!WITH_WORDS.has(file.kind)) return <p className="note">{text.files.notShown(text.files.onlyKinds)}</p>;
  return (
    <section className="max-h-48 shrink-0 overflow-y-auto border-y border-line py-2">
      <h3 className="font-semibold">{text.files.firstWords}</h3>
      {words.isPending ? (
        <p role="status">{text.look.reading}</p>
      ) : (
        <p className="whitespace-pre-wrap wrap-anywhere">{words.data}</p>
      )}
    </section>
  );
}

/** Rows that are shown of such a list. */
const MOST = 50;

function Rows({
  title,
  rows,
  name,
  onMark,
}: {
  title: string;
  rows: readonly FileRow[];
  name(row: FileRow): string;
  onMark(rows: number[]): void;
}) {
  const { octets, day } = useFigures();
  if (rows.length < 2) return null;
  return (
    <section className="max-h-60 shrink-0 overflow-y-auto border-y border-line py-2">
      <div className="flex items-baseline justify-between gap-3">
        <h3 className="font-semibold">
          {title} <span className="note">{rows.length}</span>
        </h3>
        <button type="button" className="link" onClick={() => onMark(rows.map(({ id }) => id))}>
          {text.files.markThese}
        </button>
      </div>
      <ul>
        {rows.slice(0, MOST).map((row) => (
          <li key={row.id} className="flex justify-between gap-3 border-b border-hair py-1">
            <span className="truncate">{name(row)}</span>
            <span className="whitespace-nowrap text-ink-2">
              {day(new Date(row.date * 1000).toISOString())} · {octets(row.size)}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
