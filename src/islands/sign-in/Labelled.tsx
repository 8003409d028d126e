import type { ReactNode } from 'react';

/** A field with its name above it. */
export function Labelled({
  name,
  label,
  wide,
  children,
}: {
  name: string;
  label: string;
  wide?: boolean;
  children: ReactNode;
}) {
  return (
    <div className={wide ? 'col-span-2' : ''}>
      <label htmlFor={name} className="note">
        {label}
      </label>
      {children}
    </div>
  );
}
