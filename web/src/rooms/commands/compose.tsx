/** Composing a command: the sentence, its slots, and the next firings per zone before it is saved. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { DateTime } from "luxon";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { SCHEDULE_DEFAULTS } from "@/api/defaults";
import { handedOver } from "@/api/handed-over";
import { groups as groupsQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { city, count, counted } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { useDebounced } from "@/lib/use-debounced";
import { Conflicts } from "@/parts/conflicts";
import { Button, Card, Labelled, Picker, Problem } from "@/parts/controls";
import { NamedDevices } from "@/parts/named-devices";
import { DraftSentence } from "@/parts/sentence";
import { TimeField } from "@/parts/time-fields";
import { isCount, TypedCount } from "@/parts/typed-count";
import { type Answer, Loaded } from "@/parts/views";
import { ZoneRows } from "@/parts/zone-rows";
import { draftSentence } from "./queries";

const newCommandRoute = getRouteApi("/commands/new");

type Draft = Schemas["ScheduleDraftBodyRequest"];

const START: Draft = {
  ...SCHEDULE_DEFAULTS,
  include: [],
  exclude: [],
  include_devices: [],
  when: "daily",
  time_of_day: "05:30",
};

const isForSomebody = (draft: Draft) => draft.include.length + (draft.include_devices ?? []).length > 0;

export function NewCommand() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { devices } = newCommandRoute.useSearch();
  const [draft, setDraft] = useState<Draft>(() => ({ ...START, include_devices: handedOver(devices) }));
  const [open, setOpen] = useState("audience");
  const [typed, setTyped] = useState("");
  usePageTitle("New command");
  const groups = useQuery(groupsQuery);
  const settled = useDebounced(draft, 250);
  const preview = useQuery({
    queryKey: ["schedule-preview", settled],
    queryFn: () => body(api.POST("/api/v1/schedules/preview", { body: settled })),
    enabled: isForSomebody(settled),
    retry: false,
    placeholderData: (before) => before,
  });
  const save = useMutation({
    mutationFn: () => body(api.POST("/api/v1/schedules", { body: { ...draft, devices: Number(typed) } })),
    onSuccess: (saved) => {
      changed(client, "schedule");
      toast("Command saved");
      navigate({ to: "/commands/$id", params: { id: String(saved.id) }, search: {} });
    },
  });
  const daily = draft.when === "daily";
  const sentence = useQuery(draftSentence(settled));
  const reached = preview.data?.reached_now ?? 0;
  const asksForCount = !daily && preview.data?.harm !== "gentle";
  const settledNow = settled === draft && preview.data !== undefined && !preview.isPlaceholderData;
  const ready =
    isForSomebody(draft) &&
    !preview.error &&
    (daily || (settledNow && reached > 0 && (!asksForCount || isCount(typed, reached))));
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_380px] max-xl:grid-cols-[minmax(0,1fr)_290px] max-md:block max-md:overflow-auto">
      <div className="overflow-auto px-5 py-4">
        <p className="mb-1 text-soft">New command · disruptive: each device is silent for a minute or two</p>
        <DraftSentence
          of={sentence}
          isOlder={draft !== settled}
          what="The sentence of this command"
          open={open}
          onSlot={(s) => setOpen(open === s ? "" : s)}
        />
        {open && (
          <Card
            className="mt-4"
            title={
              {
                audience: "On which devices?",
                exclude: "Which devices are excluded?",
                when: "When?",
                spread: "Spread over how long?",
                give_up: "When does it give up?",
                freezes: "What about devices in a freeze?",
              }[open]
            }
            aside={<Button onClick={() => setOpen("")}>Done</Button>}
          >
            {open === "audience" && (
              <>
                <GroupPicker
                  groups={groups}
                  label="Groups"
                  chosen={draft.include}
                  onChange={(include) => setDraft({ ...draft, include })}
                />
                <NamedDevices
                  devices={draft.include_devices ?? []}
                  onChange={(include_devices) => setDraft({ ...draft, include_devices })}
                />
              </>
            )}
            {open === "exclude" && (
              <GroupPicker
                groups={groups}
                label="Groups left out"
                chosen={draft.exclude ?? []}
                onChange={(exclude) => setDraft({ ...draft, exclude })}
              />
            )}
            {open === "when" && (
              <div className="flex items-end gap-5">
                <Labelled label="Repeat">
                  <select
                    className="field"
                    value={draft.when}
                    onChange={(e) =>
                      setDraft({
                        ...draft,
                        when: e.target.value as Draft["when"],
                        time_of_day: e.target.value === "daily" ? "05:30" : null,
                      })
                    }
                  >
                    <option value="daily">every day</option>
                    <option value="now">now, once</option>
                  </select>
                </Labelled>
                {daily && (
                  <>
                    <Labelled label="At (each device's own clock)">
                      <TimeField
                        required
                        value={draft.time_of_day ?? null}
                        onChange={(time_of_day) => time_of_day && setDraft({ ...draft, time_of_day })}
                      />
                    </Labelled>
                    <Labelled label="Last day, if any">
                      <input
                        type="date"
                        className="field"
                        value={draft.until ?? ""}
                        onChange={(e) => setDraft({ ...draft, until: e.target.value || null })}
                      />
                    </Labelled>
                  </>
                )}
              </div>
            )}
            {open === "spread" && (
              <Labelled label="Minutes" hint="Each device keeps its own minute within the spread, day after day.">
                <input
                  type="number"
                  min={0}
                  className="field w-28"
                  value={draft.spread_minutes}
                  onChange={(e) => setDraft({ ...draft, spread_minutes: Number(e.target.value) })}
                />
              </Labelled>
            )}
            {open === "freezes" && (
              <Labelled label="As it fires" hint="A freeze that begins before the command is over counts too.">
                <select
                  className="field w-64"
                  value={draft.freezes}
                  onChange={(e) => setDraft({ ...draft, freezes: e.target.value as Draft["freezes"] })}
                >
                  <option value="wait">they wait for its end</option>
                  <option value="drop">they are left out</option>
                </select>
              </Labelled>
            )}
            {open === "give_up" && (
              <Labelled
                label="Minutes after the firing"
                hint="A device that does not call by then has missed this firing."
              >
                <input
                  type="number"
                  min={1}
                  className="field w-28"
                  value={draft.expires_after_minutes}
                  onChange={(e) => setDraft({ ...draft, expires_after_minutes: Number(e.target.value) })}
                />
              </Labelled>
            )}
          </Card>
        )}
      </div>
      <aside className="overflow-auto border-rule border-l bg-side px-4 py-4" aria-label="Next firings">
        <h2 className="text-[1.1rem]">Next firings</h2>
        {!isForSomebody(draft) && (
          <p className="text-soft">Choose an audience first; no group and no device is nobody.</p>
        )}
        {isForSomebody(draft) && (
          <Loaded
            of={{ ...preview, isPlaceholderData: preview.isPlaceholderData || settled !== draft }}
            what="The next firings"
            rows={6}
          >
            {(data) => <Firings data={data} daily={daily} freezes={draft.freezes ?? "wait"} />}
          </Loaded>
        )}
        <hr className="my-4 border-rule" />
        {asksForCount && reached > 0 && (
          <div className="mb-2">
            <span className="text-soft">
              {counted(reached, "device")} would restart now. Type the number of devices to run it.
            </span>
            <TypedCount className="mt-1 block" reached={reached} value={typed} onChange={setTyped} />
          </div>
        )}
        <Button kind="main" disabled={!ready || save.isPending} onClick={() => save.mutate()}>
          {daily ? "Save the schedule" : settledNow ? `Restart ${counted(reached, "device")} now` : "Restart now"}
        </Button>
        <div className="mt-2">
          <Problem error={save.error} />
        </div>
      </aside>
    </div>
  );
}

function GroupPicker({
  groups,
  ...rest
}: {
  groups: Answer<Schemas["GroupRow"][]>;
  label: string;
  chosen: number[];
  onChange: (ids: number[]) => void;
}) {
  return (
    <Loaded of={groups} what="The groups" rows={5}>
      {(all) => (
        <Picker {...rest} options={all.map((g) => ({ id: g.id, name: g.name, note: count(g.member_count) }))} />
      )}
    </Loaded>
  );
}

function Firings({
  data,
  daily,
  freezes,
}: {
  data: Schemas["SchedulePreview"];
  daily: boolean;
  freezes: "wait" | "drop";
}) {
  const { now, zone } = useClock();
  return (
    <>
      <p className="text-soft" aria-live="polite">
        {counted(data.devices, "device")} now; the audience is looked up anew at each firing.
      </p>
      {data.frozen > 0 && (
        <p>
          <span aria-hidden className="text-plum">
            ◐{" "}
          </span>
          {counted(data.frozen, "device is", "devices are")} in a freeze now:{" "}
          {freezes === "drop"
            ? "left out of a firing at this moment."
            : "each waits for its end, or until it gives up."}
        </p>
      )}
      {data.conflicts.length > 0 && (
        <section className="mt-2">
          <h3 className="font-sans font-semibold">Conflicts</h3>
          <Conflicts rows={data.conflicts} />
        </section>
      )}
      {data.unsupported_count > 0 && (
        <p>
          <span aria-hidden className="text-saffron">
            ◆{" "}
          </span>
          <Link to="/fleet" search={{ rule: data.unable_rule }} className="slot">
            {counted(data.unsupported_count, "device")}
          </Link>{" "}
          left out: their firmware cannot do it.
        </p>
      )}
      {daily && (
        <div className="my-2">
          <ZoneRows
            zones={data.zones.map((z) => z.zone)}
            from={now}
            hours={24}
            zone={zone}
            width={340}
            marks={data.zones.flatMap((z) => z.firings.map((f) => ({ zone: z.zone, at: f.at, text: f.at })))}
          />
          <p className="text-soft text-xs">Hours by your clock, {city(zone)}; local nights shaded.</p>
        </div>
      )}
      {data.zones.map((z) => (
        <section key={z.zone} className="mt-3">
          <h3 className="flex justify-between font-sans font-semibold">
            {city(z.zone)} <span className="font-normal text-soft">{counted(z.devices, "device")}</span>
          </h3>
          <ul className="font-mono text-xs">
            {z.firings.slice(0, 4).map((f) => {
              const there = DateTime.fromISO(f.at, { zone: z.zone });
              return (
                <li key={f.at}>
                  {there.toFormat("ccc d LLL HH:mm")} there{" "}
                  <span className="text-soft">= {there.setZone(zone).toFormat("ccc HH:mm")} yours</span>
                  {f.shift === "skipped" && (
                    <span className="block text-saffron-ink">
                      the clock jumps over this time: it runs at the first moment after
                    </span>
                  )}
                  {f.shift === "twice" && (
                    <span className="block text-saffron-ink">this time happens twice: it runs the first time only</span>
                  )}
                </li>
              );
            })}
          </ul>
        </section>
      ))}
    </>
  );
}
