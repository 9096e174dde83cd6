/** What happened since one was here last, in a sentence of numbers. */
import type { Schemas } from "@/api/client";
import { count, counted } from "@/lib/format";

type Numbers = Omit<Schemas["SinceView"], "since" | "acts" | "all_acts">;

export function sinceWords(n: Numbers): string {
  const parts = [
    both(n.confirmed, (c) => `${counted(c, "device")} confirmed an install`, n.failed, "failed for good"),
    commands(n),
    n.new_devices && `${counted(n.new_devices, "device")} called for the first time`,
    n.items_opened && `${counted(n.items_opened, "attention item")} opened`,
    n.items_closed && `${counted(n.items_closed, "attention item")} ${n.items_closed === 1 ? "is" : "are"} over`,
  ].filter(Boolean);
  const told = parts.join(" · ");
  return told
    ? `${told.charAt(0).toUpperCase()}${told.slice(1)}.`
    : "No install, no command and no attention item ended or began.";
}

function both(good: number, words: (good: number) => string, bad: number, badly: string): string {
  if (good && bad) return `${words(good)}, ${count(bad)} ${badly}`;
  if (good) return words(good);
  return bad ? `${counted(bad, "device")} ${badly}` : "";
}

function commands(n: Numbers): string {
  const parts = [
    n.commands_done && `${count(n.commands_done)} done`,
    n.commands_missed && `${count(n.commands_missed)} missed`,
    n.commands_failed && `${count(n.commands_failed)} failed`,
  ].filter(Boolean);
  return parts.length ? `commands: ${parts.join(", ")}` : "";
}
