/** A rollout or a command as one sentence; its dotted words are slots. */
import clsx from "clsx";
import type { Schemas } from "@/api/client";

type Part = Schemas["SentencePart"];

const PLUM = new Set(["exclude"]);

export function sentenceText(parts: Part[]): string {
  return `${parts.map((p) => p.text).join("")}.`;
}

/** The sentence; with `onSlot` its slots can be pressed, and `open` is the one whose editor is open. */
export function Sentence({
  parts,
  open,
  onSlot,
  className,
}: {
  parts: Part[];
  open?: string;
  onSlot?: (slot: string) => void;
  className?: string;
}) {
  return (
    <h1 className={clsx("text-pretty leading-[1.45]", className)}>
      {parts.map((part, i) => {
        const key = `${i}${part.slot}`;
        if (!part.slot) return <span key={key}>{part.text}</span>;
        const tone = clsx("slot", PLUM.has(part.slot) && "border-plum! text-plum!", open === part.slot && "bg-wash");
        if (!onSlot)
          return (
            <span key={key} className={tone}>
              {part.text}
            </span>
          );
        return (
          <button
            key={key}
            type="button"
            className={clsx(tone, "text-left")}
            aria-expanded={open === part.slot}
            data-slot={part.slot}
            onClick={() => onSlot(part.slot)}
          >
            {part.text}
          </button>
        );
      })}
      <span>.</span>
    </h1>
  );
}
