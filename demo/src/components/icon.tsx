const paths = {
  search: 'M11.5 11.5 15 15M7 12.5A5.5 5.5 0 1 0 7 1.5a5.5 5.5 0 0 0 0 11Z',
  up: 'M8 14V2M3 7l5-5 5 5',
  down: 'M8 2v12M3 9l5 5 5-5',
  anchor: 'M8 5v10M8 5a2 2 0 1 0 0-4 2 2 0 0 0 0 4ZM2 9c0 4 3 6 6 6s6-2 6-6M5 8h6',
};

export function Icon({ name, size = 16 }: { name: keyof typeof paths; size?: number }) {
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 16 16"
      fill="none"
      stroke="currentColor"
      strokeWidth="1.8"
      strokeLinecap="round"
      strokeLinejoin="round"
      aria-hidden="true"
    >
      <path d={paths[name]} />
    </svg>
  );
}
