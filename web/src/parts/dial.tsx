/** The fill dial: a delivery's phase by shape and fill; colour only repeats it. */
import type { Schemas } from "@/api/client";
import { LOOK, type Phase, type Tone } from "./phases";

const R = 4.6;
const STROKE: Record<Tone, string> = {
  done: "var(--verdigris)",
  moving: "var(--saffron)",
  failed: "var(--brick)",
  held: "var(--plum)",
  open: "var(--faint)",
  out: "var(--faint)",
};

function slice(fill: number): string {
  const angle = 2 * Math.PI * fill;
  const x = 6 + R * Math.sin(angle);
  const y = 6 - R * Math.cos(angle);
  return `M6 6 V${6 - R} A${R} ${R} 0 ${fill > 0.5 ? 1 : 0} 1 ${x} ${y} Z`;
}

/** The shape of a phase in a 12 × 12 box. */
export function DialShape({ phase, held = false }: { phase: Phase; held?: boolean }) {
  const { tone, fill } = LOOK[phase];
  if (held && phase === "waiting")
    return (
      <g stroke={STROKE.held} fill="none">
        <circle cx="6" cy="6" r={R} fill="var(--card)" strokeWidth="1.1" />
        <path d="M3 6h6" strokeWidth="1.8" strokeLinecap="round" />
      </g>
    );
  const color = STROKE[tone];
  if (tone === "failed")
    return (
      <g>
        <rect x="1.2" y="1.2" width="9.6" height="9.6" rx="1.2" fill={color} />
        <path d="M3.7 3.7l4.6 4.6M8.3 3.7l-4.6 4.6" stroke="var(--card)" strokeWidth="1.5" />
      </g>
    );
  if (tone === "out") return <path d="M2.5 6h7" stroke={color} strokeWidth="2" strokeLinecap="round" />;
  if (fill === 1) return <circle cx="6" cy="6" r={R + 0.4} fill={color} />;
  return (
    <g>
      <circle cx="6" cy="6" r={R} fill="var(--card)" stroke={color} strokeWidth="1.1" />
      {fill > 0 && <path d={slice(fill)} fill={color} />}
    </g>
  );
}

/** One dial with its word for those who do not see it. */
export function Dial({ phase, held = false, size = 13 }: { phase: Phase; held?: boolean; size?: number }) {
  const word = held && phase === "waiting" ? "held back" : LOOK[phase].word;
  return (
    <svg width={size} height={size} viewBox="0 0 12 12" role="img" aria-label={word} className="shrink-0">
      <DialShape phase={phase} held={held} />
    </svg>
  );
}

const CELL = 13;

/** One dial a device, in rows; told as counts to those who do not see it. */
export function DialField({
  marks,
  perRow,
  label,
  onPick,
}: {
  marks: Schemas["Mark"][];
  perRow: number;
  label: string;
  onPick: (device: string) => void;
}) {
  const rows = Math.ceil(marks.length / perRow);
  return (
    // biome-ignore lint/a11y/useKeyWithClickEvents: the table below lists the same devices for the keyboard
    <svg
      role="img"
      aria-label={label}
      width="100%"
      viewBox={`0 0 ${perRow * CELL} ${rows * CELL}`}
      style={{ maxWidth: perRow * CELL, height: "auto" }}
      onClick={(event) => {
        const name = (event.target as Element).closest("[data-device]")?.getAttribute("data-device");
        if (name) onPick(name);
      }}
    >
      {marks.map((mark, i) => (
        <g
          key={mark.id}
          data-device={mark.device}
          transform={`translate(${(i % perRow) * CELL} ${Math.floor(i / perRow) * CELL})`}
          className="cursor-pointer"
        >
          <title>{`${mark.device}: ${mark.held ? "held back" : LOOK[mark.phase].word}`}</title>
          <DialShape phase={mark.phase} held={mark.held} />
        </g>
      ))}
    </svg>
  );
}
