/** Less frequent ways to step into an open rollout: more groups, other hours and limits. */
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { Button } from "@/parts/controls";
import { EditOpenRollout } from "./edit-open-rollout";
import { Extend } from "./extend";

export function More({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const [open, setOpen] = useState<"extend" | "ahead" | null>(null);
  return (
    <>
      {rollout.rolls_back_id === null && <Button onClick={() => setOpen("extend")}>Extend…</Button>}
      <Button onClick={() => setOpen("ahead")}>Change ahead…</Button>
      {open === "extend" && <Extend rollout={rollout} onClose={() => setOpen(null)} />}
      {open === "ahead" && <EditOpenRollout rollout={rollout} onClose={() => setOpen(null)} />}
    </>
  );
}
