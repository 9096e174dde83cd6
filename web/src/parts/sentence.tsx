/** A rollout or a command as one sentence; its dotted words are slots. */
import clsx from "clsx";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { type Answer, Loaded } from "./views";

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

/** The sentence of what is being composed, as the server words it. The last one stays, and says that it is old, where
 * what was typed since is not worded yet (`isOlder`) or cannot be. */
export function DraftSentence({
  of,
  isOlder,
  what,
  open,
  onSlot,
}: {
  of: Answer<Part[]>;
  isOlder: boolean;
  what: string;
  open: string;
  onSlot: (slot: string) => void;
}) {
  const [said, setSaid] = useState(of);
  if (of.data && of.data !== said.data) setSaid(of);
  const { data, dataUpdatedAt } = of.data ? of : said;
  return (
    <Loaded
      of={{ ...of, data, dataUpdatedAt, isPlaceholderData: isOlder || of.isPlaceholderData }}
      what={what}
      rows={2}
      className="transition-opacity delay-300"
    >
      {(parts) => <Sentence className="text-[1.75rem]" parts={parts} open={open} onSlot={onSlot} />}
    </Loaded>
  );
}
