import { Sheet } from '../../ui/Sheet';
import { text } from '../../ui/text';

export function Help({ open, onClose }: { open: boolean; onClose(): void }) {
  return (
    <Sheet title={text.help.title} open={open} onClose={onClose}>
      <dl className="grid grid-cols-[auto_1fr] gap-x-5 gap-y-2">
        {text.help.keys.map(([keys, does]) => (
          <div key={keys} className="contents">
            <dt className="font-mono">{keys}</dt>
            <dd>{does}</dd>
          </div>
        ))}
      </dl>
    </Sheet>
  );
}
