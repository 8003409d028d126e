import type { ReactNode } from 'react';

/** A step of what becomes of files. */
export function Step({
  number,
  name,
  note,
  children,
}: {
  number: number;
  name: string;
  note: string;
  children: ReactNode;
}) {
  return (
    <li className="border-l border-line pl-3">
      <span className="font-semibold">
        {number} {name}
      </span>
      <span className="note block">{note}</span>
      <span className="mt-1 block">{children}</span>
    </li>
  );
}
