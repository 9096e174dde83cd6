/** What is said of a group and what it is kept to: name, note, folder, family, one model. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { folders as foldersQuery, groups as groupsQuery, models as modelsQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { destinations } from "./branches";
import { group as groupQuery } from "./queries";

export function DescribeGroup({ group }: { group: Schemas["GroupDetail"] }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button kind="quiet" onClick={() => setOpen(true)}>
        Describe…
      </Button>
      {open && <Form group={group} onClose={() => setOpen(false)} />}
    </>
  );
}

function Form({ group, onClose }: { group: Schemas["GroupDetail"]; onClose: () => void }) {
  const client = useQueryClient();
  const { data: folders } = useQuery(foldersQuery);
  const { data: groups } = useQuery(groupsQuery);
  const { data: models } = useQuery(modelsQuery);
  const [name, setName] = useState(group.name);
  const [note, setNote] = useState(group.note ?? "");
  const [folder, setFolder] = useState(group.folder_id);
  const [family, setFamily] = useState(group.family ?? "");
  const [model, setModel] = useState(group.only_model ?? "");
  const families = [...new Set(groups?.flatMap((g) => (g.family ? [g.family] : [])))];
  const isStatic = group.kind === "static";
  const save = useMutation({
    mutationFn: () =>
      body(
        api.PATCH("/api/v1/groups/{group_id}", {
          params: { path: { group_id: group.id } },
          body: { name, note, folder_id: folder, only_model: model || null, ...(isStatic ? { family } : {}) },
        }),
      ),
    onSuccess: (saved) => {
      client.setQueryData(groupQuery(group.id).queryKey, saved);
      changed(client, "group");
      toast(`“${saved.name}” saved`);
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title={`Describe “${group.name}”`}>
      <form
        className="grid grid-cols-2 gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Labelled label="Name" hint={name === group.name ? undefined : "Rules that name it are rewritten."}>
          <input className="field" value={name} maxLength={80} onChange={(e) => setName(e.target.value)} />
        </Labelled>
        <Labelled label="Folder">
          <select
            className="field"
            value={folder ?? ""}
            onChange={(e) => setFolder(e.target.value ? Number(e.target.value) : null)}
          >
            <option value="">none</option>
            {destinations(folders ?? [], null).map((f) => (
              <option key={f.id} value={f.id}>
                {f.path}
              </option>
            ))}
          </select>
        </Labelled>
        <div className="col-span-2">
          <Labelled label="What it is for">
            <textarea
              className="field h-16"
              value={note}
              maxLength={500}
              placeholder="why these devices are together"
              onChange={(e) => setNote(e.target.value)}
            />
          </Labelled>
        </div>
        <Labelled
          label="Kept to one model"
          hint={isStatic ? "Devices of other models are refused." : "Its rule then needs the line that says so."}
        >
          <select className="field" value={model} onChange={(e) => setModel(e.target.value)}>
            <option value="">any model</option>
            {models?.map((m) => (
              <option key={m.id}>{m.name}</option>
            ))}
          </select>
        </Labelled>
        {isStatic && (
          <Labelled
            label="Family"
            hint="A device is in one group of a family only. Empty is none; a new name makes one."
          >
            <input
              className="field"
              list="families"
              value={family}
              maxLength={80}
              onChange={(e) => setFamily(e.target.value)}
            />
          </Labelled>
        )}
        <datalist id="families">
          {families.map((f) => (
            <option key={f} value={f} />
          ))}
        </datalist>
        <div className="col-span-2">
          <Problem error={save.error} />
        </div>
        <div className="col-span-2 flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!name.trim() || save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Modal>
  );
}
