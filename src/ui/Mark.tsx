import { text } from './text';

/** The name with its sieve. */
export function Mark() {
  return (
    <p className="flex items-center gap-2 text-[15px] font-semibold">
      <svg
        aria-hidden="true"
        viewBox="0 0 16 16"
        width="17"
        height="17"
        fill="none"
        stroke="currentColor"
        strokeWidth="1.3"
      >
        <path d="M1.5 3h13l-2 9a2 2 0 0 1-2 1.5h-5a2 2 0 0 1-2-1.5zM2.3 6.5h11.4M3 10h10M6 3l1 10.5M10 3l-1 10.5" />
      </svg>
      {text.product}
    </p>
  );
}
