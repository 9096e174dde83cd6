/** What a person is limited to: folders of groups and sites, with how many devices that comes to. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { folders as foldersQuery, people as peopleQuery, sites as sitesQuery } from "@/api/queries";
import { counted } from "@/lib/format";
import { Button, Modal, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";

export type Limits = Schemas["LimitsBodyRequest"] | null;

/** How it is said what somebody, or something, is limited to. */
export type LimitWords = {
  legend: string;
  everything: string;
  nothing: string;
  reached: (devices: string, groups: string) => string;
};
const FOR_A_PERSON: LimitWords = {
  legend: "Sees",
  everything: "everything",
  nothing: "Nothing is chosen: they would see no device at all.",
  reached: (devices, groups) =>
    `They see ${devices} in ${groups}, as they are now and will be. Whoever moves a group or a device there shows it to them.`,
};

/** The choice between everything and some folders and sites. */
export function LimitsField({
  value,
  words = FOR_A_PERSON,
  onChange,
}: {
  value: Limits;
  words?: LimitWords;
  onChange: (to: Limits) => void;
}) {
  const radio = "accent-[var(--verdigris)]";
  return (
    <fieldset>
      <legend className="mb-1 font-semibold text-soft">{words.legend}</legend>
      <label className="flex min-h-[28px] items-center gap-2">
        <input type="radio" name="sees" className={radio} checked={value === null} onChange={() => onChange(null)} />
        {words.everything}
      </label>
      <label className="flex min-h-[28px] items-center gap-2">
        <input
          type="radio"
          name="sees"
          className={radio}
          checked={value !== null}
          onChange={() => onChange({ folders: [], sites: [] })}
        />
        only the devices in some folders of groups, and at some sites
      </label>
      {value !== null && <Choices value={value} words={words} onChange={onChange} />}
    </fieldset>
  );
}

function Choices({
  value,
  words,
  onChange,
}: {
  value: NonNullable<Limits>;
  words: LimitWords;
  onChange: (to: Limits) => void;
}) {
  const folders = useQuery(foldersQuery);
  const sites = useQuery(sitesQuery);
  const reach = useQuery({
    queryKey: ["preview", "limits", value],
    queryFn: () => body(api.POST("/api/v1/people/limits/preview", { body: { limits: value } })),
    placeholderData: keepPreviousData,
  });
  const pathOf = (id: number | null): string => {
    const folder = folders.data?.find((f) => f.id === id);
    return folder ? [pathOf(folder.parent), folder.name].filter(Boolean).join(" / ") : "";
  };
  const toggled = (ids: number[], id: number) => (ids.includes(id) ? ids.filter((i) => i !== id) : [...ids, id]);
  const none = value.folders.length + value.sites.length === 0;
  return (
    <>
      <div className="mt-1 grid grid-cols-2 gap-3 max-md:grid-cols-1">
        <Loaded of={folders} what="The folders" rows={4} empty={<p className="text-soft">There is no folder yet.</p>}>
          {(all) => (
            <Ticks title="Folders, with those below">
              {all
                .map((f) => ({ id: f.id, words: pathOf(f.id) }))
                .sort((a, b) => a.words.localeCompare(b.words))
                .map((f) => (
                  <Tick
                    key={f.id}
                    words={f.words}
                    isOn={value.folders.includes(f.id)}
                    onTick={() => onChange({ ...value, folders: toggled(value.folders, f.id) })}
                  />
                ))}
            </Ticks>
          )}
        </Loaded>
        <Loaded of={sites} what="The sites" rows={4} empty={<p className="text-soft">There is no site yet.</p>}>
          {(all) => (
            <Ticks title="Sites">
              {all.map((s) => (
                <Tick
                  key={s.id}
                  words={s.name}
                  isOn={value.sites.includes(s.id)}
                  onTick={() => onChange({ ...value, sites: toggled(value.sites, s.id) })}
                />
              ))}
            </Ticks>
          )}
        </Loaded>
      </div>
      <p aria-live="polite" className="mt-2 min-h-[3em]">
        {none
          ? words.nothing
          : reach.data && !reach.isPlaceholderData
            ? words.reached(counted(reach.data.devices, "device"), counted(reach.data.groups, "group"))
            : "Counting…"}
      </p>
      <Problem error={reach.error} />
    </>
  );
}

function Ticks({ title, children }: { title: string; children: ReactNode }) {
  return (
    <fieldset className="min-w-0">
      <legend className="text-soft">{title}</legend>
      <div className="max-h-44 overflow-auto rounded-sm border border-rule px-2 py-1">{children}</div>
    </fieldset>
  );
}

function Tick({ words, isOn, onTick }: { words: string; isOn: boolean; onTick: () => void }) {
  return (
    <label className="flex min-h-[26px] items-center gap-2">
      <input type="checkbox" className="accent-[var(--verdigris)]" checked={isOn} onChange={onTick} />
      <span className="truncate" title={words}>
        {words}
      </span>
    </label>
  );
}

/** Changing what one person is limited to. */
export function LimitPerson({ person, onClose }: { person: Schemas["PersonRow"]; onClose: () => void }) {
  const client = useQueryClient();
  const now = person.limits;
  const [wanted, setWanted] = useState<Limits>(
    now && { folders: now.folders.map((f) => f.id), sites: now.sites.map((s) => s.id) },
  );
  const save = useMutation({
    mutationFn: () =>
      body(
        api.PUT("/api/v1/people/{user_id}/limits", {
          params: { path: { user_id: person.id } },
          body: { limits: wanted },
        }),
      ),
    onSuccess: (all) => {
      client.setQueryData(peopleQuery.queryKey, all);
      const words = all.people.find((p) => p.id === person.id)?.limits?.words;
      toast(words ? `${person.name} sees only ${words} from now on.` : `${person.name} sees everything from now on.`);
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title={`What ${person.name} sees`}>
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <LimitsField value={wanted} onChange={setWanted} />
        <p className="text-soft">
          Within limits there are only these devices, the groups in the folders, and the rollouts and commands aimed at
          nothing else. Groups, tags, sites and images are changed by those who see everything.
        </p>
        <Problem error={save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Modal>
  );
}
