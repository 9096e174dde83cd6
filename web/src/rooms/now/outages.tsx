/** Planned outages: whose silence is expected and told to nobody, until when and why; planning one, and ending it. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { DateTime } from "luxon";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { groups as groupsQuery, sites as sitesQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { count, counted, instant } from "@/lib/format";
import { Button, Card, Confirm, Labelled, Modal, Problem } from "@/parts/controls";
import { ObjectLink } from "@/parts/object-link";
import { MomentField } from "@/parts/time-fields";
import { Loaded } from "@/parts/views";
import { outages as outagesQuery } from "./queries";

type Row = Schemas["OutageRow"];
const USUAL_HOURS = 2;

export function Outages() {
  const asked = useQuery(outagesQuery);
  const [planning, setPlanning] = useState(false);
  return (
    <Card title="Planned outages">
      <Loaded
        of={asked}
        what="The planned outages"
        rows={2}
        isEmpty={(rows) => rows.length === 0}
        empty={<p className="text-soft">None. Plan one, and nobody is told of the silence that it brings.</p>}
      >
        {(rows) => (
          <ul className="space-y-2">
            {rows.map((row) => (
              <Outage key={row.id} row={row} />
            ))}
          </ul>
        )}
      </Loaded>
      <Button needs="operate-all" className="mt-3" onClick={() => setPlanning(true)}>
        Plan an outage…
      </Button>
      {planning && <Plan onClose={() => setPlanning(false)} />}
    </Card>
  );
}

function Outage({ row }: { row: Row }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const end = useMutation({
    mutationFn: () => body(api.DELETE("/api/v1/outages/{outage_id}", { params: { path: { outage_id: row.id } } })),
    onSettled: () => changed(client, "attention"),
  });
  const isToCome = Date.parse(row.starts_at) > now.getTime();
  const isOver = Date.parse(row.ends_at) <= now.getTime();
  const times = isToCome
    ? `from ${instant(row.starts_at, zone, now)} until ${instant(row.ends_at, zone, now)}`
    : `${isOver ? "was over" : "until"} ${instant(row.ends_at, zone, now)}`;
  return (
    <li className={isOver ? "text-soft" : ""}>
      <ObjectLink
        kind={row.site === null ? "group" : "site"}
        id={row.site ?? row.group ?? 0}
        className="font-semibold hover:underline"
      >
        {row.where}
      </ObjectLink>{" "}
      {times}
      <p>
        {row.reason}
        {row.made_by && <span className="text-soft"> – {row.made_by}</span>}
      </p>
      {!isOver && (
        <p className="text-soft">
          {isToCome
            ? counted(row.devices, "device")
            : `${count(row.late)} of ${counted(row.devices, "device")} not heard from in time, which is told to nobody`}
        </p>
      )}
      {!isOver && (
        <Confirm
          needs="operate-all"
          trigger={
            <Button kind="quiet" aria-label={`${isToCome ? "Call off" : "End"} the outage of ${row.where}…`}>
              {isToCome ? "Call it off…" : "It is over…"}
            </Button>
          }
          title={isToCome ? `Call off the outage of ${row.where}?` : `Is the outage of ${row.where} over?`}
          action={isToCome ? "Call it off" : "It is over"}
          onConfirm={() => end.mutate()}
        >
          {isToCome
            ? "Silence there is told as any other then."
            : `${count(row.late)} of ${counted(row.devices, "device")} are not heard from in time. From now on that is told as any other silence.`}
        </Confirm>
      )}
      <Problem error={end.error} />
    </li>
  );
}

/** Of whom an outage is: "site:3" or "group:7". */
type Whom = "" | `site:${number}` | `group:${number}`;

function Plan({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const sites = useQuery(sitesQuery);
  const groups = useQuery(groupsQuery);
  const [whom, setWhom] = useState<Whom>("");
  const [startsAt, setStartsAt] = useState<string | null>(null);
  const [endsAt, setEndsAt] = useState<string | null>(() =>
    DateTime.fromJSDate(now, { zone }).plus({ hours: USUAL_HOURS }).startOf("minute").toUTC().toISO(),
  );
  const [reason, setReason] = useState("");
  const [kind, id] = whom.split(":");
  const site = kind === "site" ? sites.data?.find((s) => s.id === Number(id)) : undefined;
  const group = kind === "group" ? groups.data?.find((g) => g.id === Number(id)) : undefined;
  const devices = site?.devices ?? group?.member_count;
  const save = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/outages", {
          body: {
            site: site?.id ?? null,
            group: group?.id ?? null,
            starts_at: startsAt,
            ends_at: endsAt ?? "",
            reason,
          },
        }),
      ),
    onSuccess: () => {
      changed(client, "attention");
      toast(`Silence at ${site?.name ?? group?.name} is expected until ${instant(endsAt ?? "", zone, now)}.`);
      onClose();
    },
  });
  const here = DateTime.fromJSDate(now, { zone });
  return (
    <Modal open onClose={onClose} title="Plan an outage">
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Labelled label="Of">
          <select className="field" required value={whom} onChange={(e) => setWhom(e.target.value as Whom)}>
            <option value="">{sites.data && groups.data ? "a site or a group…" : "…"}</option>
            <optgroup label="Sites">
              {sites.data?.map((s) => (
                <option key={s.id} value={`site:${s.id}`}>
                  {s.name}
                </option>
              ))}
            </optgroup>
            <optgroup label="Groups">
              {groups.data?.map((g) => (
                <option key={g.id} value={`group:${g.id}`}>
                  {g.name}
                </option>
              ))}
            </optgroup>
          </select>
        </Labelled>
        <Problem error={sites.error ?? groups.error} />
        <div className="flex flex-wrap gap-5">
          <MomentField label="From, now if empty" min={here} value={startsAt} zone={zone} onChange={setStartsAt} />
          <MomentField label="Until" min={here} value={endsAt} zone={zone} onChange={setEndsAt} />
        </div>
        <Labelled label="Why" hint="for whoever looks at it at night">
          <input
            className="field"
            required
            maxLength={300}
            placeholder="The provider moves the mast"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
        </Labelled>
        <p aria-live="polite" className="min-h-[3em]">
          {devices === undefined
            ? ""
            : `${counted(devices, "device")} may be silent until then and nobody is told. Rollouts and commands go on; what is still silent afterwards wants attention.`}
        </p>
        <Problem error={save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={save.isPending || !whom || !endsAt || !reason.trim()}>
            Plan it
          </Button>
        </div>
      </form>
    </Modal>
  );
}
