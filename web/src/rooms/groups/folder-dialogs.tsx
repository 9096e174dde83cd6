/** Naming a folder, and choosing where something goes. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { destinations } from "./branches";
import type { Moving } from "./use-moves";

export function FolderName({
  known,
  parent,
  onClose,
}: {
  known: Schemas["FolderRow"] | null;
  parent: number | null;
  onClose: () => void;
}) {
  const client = useQueryClient();
  const [name, setName] = useState(known?.name ?? "");
  const save = useMutation({
    mutationFn: () =>
      known
        ? body(api.PATCH("/api/v1/folders/{folder_id}", { params: { path: { folder_id: known.id } }, body: { name } }))
        : body(api.POST("/api/v1/folders", { body: { name, parent } })),
    onSuccess: () => {
      changed(client, "group");
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title={known ? `Rename the folder “${known.name}”` : "New folder"}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Labelled label="Name of the folder">
          <input className="field" value={name} maxLength={80} onChange={(e) => setName(e.target.value)} />
        </Labelled>
        <Problem error={save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!name.trim() || save.isPending}>
            {known ? "Rename" : "Make the folder"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}

export function MoveDialog({
  thing,
  folders,
  onClose,
  onMove,
}: {
  thing: Moving;
  folders: Schemas["FolderRow"][];
  onClose: () => void;
  onMove: (to: number | null) => void;
}) {
  const [to, setTo] = useState(thing.from);
  const choices = [
    { id: null, path: "Out of all folders" },
    ...destinations(folders, thing.kind === "folder" ? thing.id : null),
  ];
  return (
    <Modal open onClose={onClose} title={`Move “${thing.name}”`}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (to !== thing.from) onMove(to);
          onClose();
        }}
      >
        <fieldset className="mb-3 space-y-0.5">
          <legend className="sr-only">Where to</legend>
          {choices.map((c) => (
            <label key={c.id ?? "top"} className="flex min-h-[28px] items-center gap-2">
              <input
                type="radio"
                name="to"
                className="accent-[var(--verdigris)]"
                checked={to === c.id}
                onChange={() => setTo(c.id)}
              />
              {c.path}
              {c.id === thing.from && <span className="text-soft">where it is</span>}
            </label>
          ))}
        </fieldset>
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={to === thing.from}>
            Move it here
          </Button>
        </div>
      </form>
    </Modal>
  );
}
