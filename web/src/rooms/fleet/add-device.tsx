/** Adding one device by hand, before it first calls. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useId, useState } from "react";
import { ApiError, api, body, type Schemas } from "@/api/client";
import {
  attributes as attributesQuery,
  custodians as custodiansQuery,
  models as modelsQuery,
  sites as sitesQuery,
} from "@/api/queries";
import { devicesChanged } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { wordsIn } from "@/lib/words";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { toastWith } from "@/parts/toasts";

type Draft = Schemas["DeviceDraftBodyRequest"];
export type StartsAs = Partial<Draft>;

export function AddDevice() {
  const [open, setOpen] = useState(false);
  if (!useMay("operate-all")) return null;
  return (
    <>
      <Button kind="quiet" onClick={() => setOpen(true)}>
        Add device…
      </Button>
      {open && <AddDeviceForm onClose={() => setOpen(false)} />}
    </>
  );
}

export function AddDeviceForm({ start = {}, onClose }: { start?: StartsAs; onClose: () => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [draft, setDraft] = useState<Draft>({ model: "", admission: "admitted", attributes: {}, tags: [], ...start });
  const [tags, setTags] = useState("");
  const { data: models } = useQuery(modelsQuery);
  const { data: sites } = useQuery(sitesQuery);
  const { data: custodians } = useQuery(custodiansQuery);
  const { data: attributes } = useQuery(attributesQuery);
  const list = useId();
  const set = (change: Partial<Draft>) => setDraft((old) => ({ ...old, ...change }));
  const add = useMutation({
    mutationFn: () => body(api.POST("/api/v1/devices/add", { body: { ...draft, tags: wordsIn(tags) } })),
    onSuccess: (made) => {
      devicesChanged(client);
      toastWith(`Added ${made.name}`, "Open", () => navigate({ to: "/devices/$name", params: { name: made.name } }));
      onClose();
    },
  });
  const refused = add.error instanceof ApiError ? add.error.errors : [];
  const wrong = (key: string) => refused.find((e) => e.pointer === `/${key}`)?.message;
  const shown = new Set(["uid", "serial", "name", "model", "hardware_revision", "site", "custodian", "tags"]);
  const others = refused.filter(
    (e) => !shown.has((e.pointer ?? "").slice(1)) && !e.pointer?.startsWith("/attributes/"),
  );
  const has = (draft.attributes ?? {}) as Record<string, string>;
  const text = (key: "uid" | "serial" | "name" | "hardware_revision", label: string, hint?: string) => (
    <Labelled label={label} hint={hint}>
      <input className="field" value={draft[key] ?? ""} onChange={(e) => set({ [key]: e.target.value })} />
      <Wrong text={wrong(key)} />
    </Labelled>
  );
  const choice = (key: "model" | "site" | "custodian", label: string, names: string[] | undefined, none: string) => (
    <Labelled label={label}>
      <select className="field" value={draft[key] ?? ""} onChange={(e) => set({ [key]: e.target.value })}>
        <option value="">{none}</option>
        {names?.map((n) => (
          <option key={n}>{n}</option>
        ))}
      </select>
      <Wrong text={wrong(key)} />
    </Labelled>
  );
  return (
    <Modal open onClose={onClose} title="Add a device">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <p className="mb-3 text-soft">
          It is known from now on, and takes part once it enrols with any valid code. Give its uid, or the serial by
          which it will make itself known.
        </p>
        <div className="grid grid-cols-2 gap-x-4 gap-y-3">
          {text("uid", "UID")}
          {text("serial", "Serial")}
          {text("name", "Name", "empty: its uid")}
          {choice(
            "model",
            "Model",
            models?.map((m) => m.name),
            "choose…",
          )}
          {text("hardware_revision", "Hardware revision")}
          {choice(
            "site",
            "Site",
            sites?.map((s) => s.name),
            "none",
          )}
          {choice(
            "custodian",
            "Custodian",
            custodians?.map((c) => c.name),
            "none",
          )}
          <Labelled label="Tags" hint="several between commas">
            <input className="field" value={tags} onChange={(e) => setTags(e.target.value)} />
            <Wrong text={wrong("tags")} />
          </Labelled>
          {attributes?.map((a) => (
            <Labelled key={a.key} label={`${a.label}${a.unit ? ` (${a.unit})` : ""}${a.required ? ", required" : ""}`}>
              <input
                className="field"
                list={a.choices.length ? `${list}-${a.key}` : undefined}
                placeholder={a.default == null ? "" : String(a.default)}
                value={has[a.key] ?? ""}
                onChange={(e) => {
                  const { [a.key]: _, ...rest } = has;
                  set({ attributes: e.target.value ? { ...rest, [a.key]: e.target.value } : rest });
                }}
              />
              {a.choices.length > 0 && (
                <datalist id={`${list}-${a.key}`}>
                  {a.choices.map((c) => (
                    <option key={c} value={c} />
                  ))}
                </datalist>
              )}
              <Wrong text={wrong(`attributes/${a.key}`)} />
            </Labelled>
          ))}
        </div>
        <label className="mt-3 flex min-h-[30px] items-center gap-2">
          <input
            type="checkbox"
            className="accent-[var(--verdigris)]"
            checked={draft.admission === "waiting"}
            onChange={(e) => set({ admission: e.target.checked ? "waiting" : "admitted" })}
          />
          It waits for admission once it has enrolled
        </label>
        {(others.length > 0 || (add.error && refused.length === 0)) && (
          <div className="mt-2">
            <Problem error={others.length ? others.map((o) => o.message).join(" ") : add.error} />
          </div>
        )}
        <div className="mt-4 flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind="main"
            type="submit"
            disabled={!draft.model || !(draft.uid?.trim() || draft.serial?.trim()) || add.isPending}
          >
            Add device
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function Wrong({ text }: { text: string | undefined }) {
  return text ? (
    <span role="alert" className="text-brick text-xs">
      {text}
    </span>
  ) : null;
}
