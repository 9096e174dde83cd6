/** What a command does to the work of a device: a mark, a colour and words, always together. */
import type { Schemas } from "@/api/client";

export type Harm = Schemas["HarmEnum"];

const HARMS: Record<Harm, { mark: string; tone: string }> = {
  gentle: { mark: "○", tone: "text-soft" },
  disruptive: { mark: "◐", tone: "text-saffron-ink" },
  destructive: { mark: "●", tone: "text-brick" },
};

export const harmOf = (harm: Harm) => HARMS[harm];
