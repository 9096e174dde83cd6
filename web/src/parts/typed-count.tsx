/** The number of devices, typed by whoever sets them in motion. */

/** Whether the number that was typed is the one that is reached, or within the leeway of it. */
export function isCount(typed: string, reached: number, leeway = 0): boolean {
  return /^\d+$/.test(typed.trim()) && reached > 0 && Math.abs(Number(typed) - reached) <= leeway;
}

export function TypedCount({
  reached,
  value,
  onChange,
  className = "",
}: {
  reached: number;
  value: string;
  onChange: (typed: string) => void;
  className?: string;
}) {
  return (
    <input
      className={`field w-28 ${className}`}
      inputMode="numeric"
      aria-label="Number of devices"
      placeholder={String(reached)}
      value={value}
      onChange={(e) => onChange(e.target.value.replaceAll(",", ""))} // as numbers are shown
    />
  );
}
