/** Letting a static group follow a list kept elsewhere: first what it is, then what that would do, and only then it is
 * followed. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { counted } from "@/lib/format";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { AuthorizationField, EveryField } from "@/parts/source-fields";
import { changeWords, ListPreview } from "./list-preview";

type Draft = Schemas["ListBodyRequest"];
const EVERY = [5, 15, 60, 360, 1440, 10_080];

export function FollowListForm({
  group,
  list,
  onClose,
}: {
  group: Schemas["GroupDetail"];
  list: Schemas["FollowedListRow"] | null;
  onClose: () => void;
}) {
  const client = useQueryClient();
  const [draft, setDraft] = useState<Draft>({
    url: list?.url ?? "",
    names: list?.names ?? "devices",
    pointer: list?.pointer ?? "",
    column: list?.column ?? "",
    read_every_minutes: list?.read_every_minutes ?? 60,
    unasked_a_day: list?.unasked_a_day ?? 0,
  });
  const path = { params: { path: { group_id: group.id } } };
  const look = useMutation({
    mutationFn: () => body(api.POST("/api/v1/groups/{group_id}/list/preview", { ...path, body: draft })),
  });
  const follow = useMutation({
    mutationFn: () =>
      body(
        api.PUT("/api/v1/groups/{group_id}/list", {
          ...path,
          body: { ...draft, leaves: look.data?.most_leave ? look.data.leaves : undefined },
        }),
      ),
    onSuccess: (row) => {
      changed(client, "group");
      toast(`“${group.name}” follows its list: ${counted(row.found, "device")}`);
      onClose();
    },
  });
  const set = (fields: Partial<Draft>) => {
    look.reset();
    follow.reset();
    setDraft({ ...draft, ...fields });
  };
  return (
    <Modal
      open
      wide
      onClose={onClose}
      title={`${list ? "Change the list that" : "Let"} “${group.name}” ${list ? "follows" : "follow a list"}`}
    >
      <form
        className="space-y-3"
        noValidate
        onSubmit={(e) => {
          e.preventDefault();
          (look.data ? follow : look).mutate();
        }}
      >
        <p className="text-soft">
          Whoever stands in the list is in the group, and nobody else. It is a text with one name a line, a table, or
          JSON.
        </p>
        <div className="grid grid-cols-3 gap-3 max-md:grid-cols-1">
          <div className="col-span-2 max-md:col-span-1">
            <Labelled label="Address">
              <input
                className="field"
                type="url"
                maxLength={1000}
                placeholder="https://…"
                value={draft.url}
                onChange={(e) => set({ url: e.target.value })}
              />
            </Labelled>
          </div>
          <Labelled label="Its entries are" hint="People stand for the devices that they answer for.">
            <select
              className="field"
              value={draft.names}
              onChange={(e) => set({ names: e.target.value as Draft["names"] })}
            >
              <option value="devices">names or UIDs of devices</option>
              <option value="people">names or addresses of custodians</option>
            </select>
          </Labelled>
          <AuthorizationField
            value={draft.authorization}
            isKept={list?.has_authorization ?? false}
            onChange={(to) => set({ authorization: to })}
          />
          <Labelled label="Column" hint="Its heading, or a member of each object. Empty: each line or value.">
            <input
              className="field"
              maxLength={80}
              placeholder="serial"
              value={draft.column}
              onChange={(e) => set({ column: e.target.value })}
            />
          </Labelled>
          <Labelled label="Place in JSON" hint="Where the list is in the document, as /data/devices.">
            <input
              className="field font-mono"
              maxLength={200}
              value={draft.pointer}
              onChange={(e) => set({ pointer: e.target.value })}
            />
          </Labelled>
          <EveryField
            choices={EVERY}
            minutes={draft.read_every_minutes ?? 60}
            onChange={(to) => set({ read_every_minutes: to })}
          />
          <Labelled
            label="Unasked in 24 hours"
            hint="So many may join or leave where something that runs follows the group; more wait for somebody to agree."
          >
            <input
              className="field"
              type="number"
              min={0}
              max={1_000_000}
              value={draft.unasked_a_day}
              onChange={(e) => set({ unasked_a_day: Number(e.target.value) })}
            />
          </Labelled>
        </div>
        {look.data && <ListPreview told={look.data} />}
        <Problem error={look.error ?? follow.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!draft.url.trim() || look.isPending || follow.isPending}>
            {look.isPending ? "Reading…" : look.data ? `Follow it: ${changeWords(look.data)}` : "See what is in it"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
