/** Less frequent ways to step into an open rollout: more groups, other hours and limits, other rings. */
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { Button } from "@/parts/controls";
import { EditOpenRollout } from "./edit-open-rollout";
import { Extend } from "./extend";
import { RingsAhead } from "./rings-ahead";

export function More({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const [open, setOpen] = useState<"extend" | "ahead" | "rings" | null>(null);
  return (
    <>
      {rollout.rolls_back_id === null && <Button onClick={() => setOpen("extend")}>Extend…</Button>}
      <Button onClick={() => setOpen("ahead")}>Change ahead…</Button>
      {rollout.rings.some((r) => !r.opened_at) && <Button onClick={() => setOpen("rings")}>Rings ahead…</Button>}
      {open === "extend" && <Extend rollout={rollout} onClose={() => setOpen(null)} />}
      {open === "ahead" && <EditOpenRollout rollout={rollout} onClose={() => setOpen(null)} />}
      {open === "rings" && <RingsAhead rollout={rollout} onClose={() => setOpen(null)} />}
    </>
  );
}
