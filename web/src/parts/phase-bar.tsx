/** Devices by phase as one bar: what is through, in motion, failed, out; the rest waits. */
import { IN_MOTION, OUT, sum, summary } from "./phases";

export function PhaseBar({ phases, size }: { phases: Record<string, number>; size: number }) {
  const parts: [string, number, string][] = [
    ["confirmed", phases.confirmed ?? 0, "var(--verdigris)"],
    ["in motion", sum(phases, IN_MOTION), "var(--saffron)"],
    ["failed", phases.failed ?? 0, "var(--brick)"],
    ["out", sum(phases, OUT), "var(--faint)"],
  ];
  return (
    <div className="flex h-4 w-full overflow-hidden rounded-sm bg-rule" role="img" aria-label={summary(phases)}>
      {parts.map(([word, n, color]) =>
        n ? (
          <div key={word} title={`${n} ${word}`} style={{ width: `${(n / size) * 100}%`, background: color }} />
        ) : null,
      )}
    </div>
  );
}
