/** A freeze as it is written down: when, for whom, why, and whether it comes again each year. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { DateTime } from "luxon";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { city, counted } from "@/lib/format";
import { Button, Labelled, Modal, Problem } from "./controls";
import { HoldersFields } from "./holders";
import { MomentField } from "./time-fields";

type Freeze = Schemas["FreezeRow"];
type Draft = Schemas["FreezeBodyRequest"];

export function FreezeForm({ freeze, onClose }: { freeze: Freeze | null; onClose: () => void }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const [draft, setDraft] = useState<Draft>(
    freeze
      ? { ...freeze, groups: freeze.groups.map((g) => g.id), sites: freeze.sites.map((s) => s.id) }
      : {
          name: "",
          starts_at: "",
          ends_at: "",
          repeats_yearly: false,
          time_zone: zone,
          everywhere: false,
          groups: [],
          sites: [],
        },
  );
  const save = useMutation({
    mutationFn: () => {
      const { name, why, starts_at, ends_at, repeats_yearly, time_zone, everywhere, groups, sites } = draft;
      const sent = { name, why, starts_at, ends_at, repeats_yearly, time_zone, everywhere, groups, sites };
      return freeze
        ? body(api.PUT("/api/v1/freezes/{freeze_id}", { params: { path: { freeze_id: freeze.id } }, body: sent }))
        : body(api.POST("/api/v1/freezes", { body: sent }));
    },
    onSuccess: (saved) => {
      changed(client, "freezes");
      toast(`${saved.name} holds ${counted(saved.devices, "device")}`);
      onClose();
    },
  });
  const moment = (field: "starts_at" | "ends_at", label: string) => (
    <MomentField
      label={`${label} (${city(zone)})`}
      min={DateTime.fromJSDate(now, { zone })}
      value={draft[field]}
      zone={zone}
      onChange={(at) => setDraft({ ...draft, [field]: at ?? "" })}
    />
  );
  return (
    <Modal open onClose={onClose} title={freeze ? `Change ${freeze.name}` : "Add a freeze"}>
      <form
        className="space-y-3"
        noValidate
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <div className="grid grid-cols-2 gap-4">
          <Labelled label="Name">
            <input
              className="field"
              maxLength={80}
              value={draft.name}
              onChange={(e) => setDraft({ ...draft, name: e.target.value })}
            />
          </Labelled>
          <Labelled label="Why">
            <input
              className="field"
              maxLength={300}
              value={draft.why ?? ""}
              onChange={(e) => setDraft({ ...draft, why: e.target.value })}
            />
          </Labelled>
          {moment("starts_at", "From")}
          {moment("ends_at", "To")}
        </div>
        <label className="flex min-h-[30px] items-center gap-2">
          <input
            type="checkbox"
            className="accent-[var(--verdigris)]"
            checked={draft.repeats_yearly ?? false}
            onChange={(e) => setDraft({ ...draft, repeats_yearly: e.target.checked })}
          />
          Comes again each year, on these days and hours of {city(draft.time_zone ?? zone)}
        </label>
        <HoldersFields value={draft} onChange={(holders) => setDraft({ ...draft, ...holders })} />
        <Problem error={save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind="main"
            type="submit"
            disabled={!draft.name.trim() || !draft.starts_at || !draft.ends_at || save.isPending}
          >
            {freeze ? "Change it" : "Add it"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
