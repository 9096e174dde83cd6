import { useState } from "react";
import type { Schemas } from "@/api/client";

/** The ticked devices, by id with their names, and what is being edited. */
export function useSelection() {
  const [chosen, setChosen] = useState<ReadonlyMap<number, string>>(new Map());
  const [editing, setEditing] = useState<"chosen" | "all" | null>(null);
  return {
    chosen,
    editing: editing === "chosen" && chosen.size === 0 ? null : editing,
    toggle: (device: Schemas["DeviceRow"]) =>
      setChosen((old) => {
        const next = new Map(old);
        if (!next.delete(device.id)) next.set(device.id, device.name);
        return next;
      }),
    nameOf: (device: Schemas["DeviceRow"]) => device.name,
    clear: () => setChosen(new Map()),
    edit: setEditing,
    close: () => setEditing(null),
  };
}
