/** Who waits for admission, and who was refused as it enrolled, with the remedy for each. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { devicesChanged } from "@/api/topics";
import { useLimits, useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, counted, fullInstant, relative } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Button, Card, Confirm, Problem } from "@/parts/controls";
import { TagList } from "@/parts/tag-list";
import { toastWith } from "@/parts/toasts";
import { Loaded } from "@/parts/views";
import { AddDeviceForm, type StartsAs } from "./add-device";
import { admissions as admissionsQuery, deviceCalled } from "./queries";

type Attempt = Schemas["AttemptRow"];
type Waiting = Schemas["WaitingDevice"];

/** A link with the number that waits; nothing while that is not known, or is none. */
export function AdmissionsLink() {
  const limits = useLimits();
  const { data } = useQuery({ ...admissionsQuery, enabled: limits === null });
  if (limits !== null) return null; // who wants in is of no site and no group yet
  const open = data ? data.waiting_count + data.attempts.length : 0;
  return (
    <Link to="/admissions" className="slot font-semibold">
      Admissions{open > 0 && ` (${count(open)})`}
    </Link>
  );
}

export function Admissions() {
  usePageTitle("Admissions");
  const asked = useQuery(admissionsQuery);
  const { data } = asked;
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <h1 className="text-2xl">Admissions</h1>
      <p className="mb-4 max-w-[80ch] text-soft">
        A device that enrols with a code that does not admit by itself waits here and gets no orders.{" "}
        {data && data.attempts.length > 0 && (
          <a href="#refused" className="slot">
            {counted(data.attempts.length, "device was", "devices were")} refused
          </a>
        )}
      </p>
      <Loaded of={asked} what="The admissions" rows={6} className="space-y-5">
        {(told) => (
          <>
            <Queue waiting={told.waiting} total={told.waiting_count} />
            <Attempts rows={told.attempts} />
          </>
        )}
      </Loaded>
    </div>
  );
}

function Queue({ waiting, total }: { waiting: Waiting[]; total: number }) {
  const client = useQueryClient();
  const mayOperate = useMay("operate-all");
  const { now, zone } = useClock();
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const names = waiting.map((d) => d.name).filter((n) => chosen.has(n));
  const decide = useMutation({
    mutationFn: (admission: "admitted" | "retired") =>
      body(
        api.POST("/api/v1/edits", {
          body: { target: { devices: names, rule: "" }, admission } as Schemas["EditRequestRequest"],
        }),
      ),
    onSuccess: (edit) => {
      setChosen(new Set());
      devicesChanged(client);
      toast(edit.sentence);
    },
  });
  const cell = "px-3 py-1.5";
  return (
    <Card
      title={`Waiting (${count(total)})`}
      aside={
        waiting.length > 0 &&
        mayOperate && (
          <span className="flex items-center gap-2">
            <Confirm
              trigger={
                <Button kind="danger" disabled={names.length === 0 || decide.isPending}>
                  Refuse…
                </Button>
              }
              title={`Refuse ${counted(names.length, "device")}?`}
              action={`Refuse ${counted(names.length, "device")}`}
              danger
              onConfirm={() => decide.mutate("retired")}
            >
              Each is retired: it is told so at its next call, and gets no orders. It can be admitted later.
            </Confirm>
            <Button
              kind="main"
              disabled={names.length === 0 || decide.isPending}
              onClick={() => decide.mutate("admitted")}
            >
              Admit {names.length > 0 && count(names.length)}
            </Button>
          </span>
        )
      }
    >
      <Problem error={decide.error} />
      {waiting.length === 0 ? (
        <p className="text-soft">No device waits for admission.</p>
      ) : (
        <table className="w-full">
          <thead className="text-left text-soft">
            <tr>
              <th className={`${cell} w-8`}>
                <input
                  type="checkbox"
                  aria-label="Choose all"
                  className="accent-[var(--verdigris)]"
                  checked={names.length === waiting.length}
                  onChange={(e) => setChosen(new Set(e.target.checked ? waiting.map((d) => d.name) : []))}
                />
              </th>
              {["Device", "Serial", "Model", "Site", "Tags", "Enrolled", "Last check-in"].map((h) => (
                <th key={h} className={`${cell} font-normal`}>
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {waiting.map((d) => (
              <tr key={d.id} className="border-rule border-t">
                <td className={cell}>
                  <input
                    type="checkbox"
                    aria-label={`Choose ${d.name}`}
                    className="accent-[var(--verdigris)]"
                    checked={chosen.has(d.name)}
                    onChange={(e) => {
                      const next = new Set(chosen);
                      if (e.target.checked) next.add(d.name);
                      else next.delete(d.name);
                      setChosen(next);
                    }}
                  />
                </td>
                <td className={cell}>
                  <Link to="/devices/$name" params={{ name: d.name }} className="font-semibold hover:underline">
                    {d.name}
                  </Link>
                  {d.uid !== d.name && <span className="block font-mono text-soft text-xs">{d.uid}</span>}
                </td>
                <td className={`${cell} font-mono`}>{d.serial}</td>
                <td className={cell}>{d.model}</td>
                <td className={cell}>{d.site ?? <span className="text-soft">none</span>}</td>
                <td className={cell}>
                  <TagList slugs={d.tags} />
                </td>
                <td className={cell} title={d.asked_at ? fullInstant(d.asked_at, zone) : undefined}>
                  {d.asked_at ? relative(d.asked_at, now) : <span className="text-soft">not yet</span>}
                </td>
                <td className={cell}>{d.last_check_in ? relative(d.last_check_in, now) : "never"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {total > waiting.length && (
        <p className="mt-2 text-soft">
          The first {count(waiting.length)} of {count(total)}.{" "}
          <Link to="/fleet" search={{ rule: "admission = waiting" }} className="slot">
            All of them in Fleet
          </Link>
        </p>
      )}
    </Card>
  );
}

const WHY: Record<Attempt["cause"], string> = {
  "bad-code": "Its enrolment code is not known here",
  "expired-code": "Its enrolment code has expired",
  "used-code": "Its enrolment code was used as often as it may be",
  "unknown-model": "Its model is not known here",
  enrolled: "It has a secret already, and seems to have lost it",
  "not-expected": "Its code is for announced devices only, and it was not announced",
  retired: "It is retired",
  removed: "It was removed for good",
};

function Attempts({ rows }: { rows: Attempt[] }) {
  const { now, zone } = useClock();
  const [adding, setAdding] = useState<StartsAs | null>(null);
  return (
    <Card id="refused" title="Refused" aside={rows.length > 0 && "the latest 500 are kept"}>
      {rows.length === 0 ? (
        <p className="text-soft">No device was refused.</p>
      ) : (
        <ul>
          {rows.map((row) => (
            <li
              key={row.id}
              className="grid grid-cols-[minmax(10rem,1fr)_2fr_minmax(9rem,auto)] items-start gap-4 border-rule border-t py-2 first:border-0"
            >
              <span className="min-w-0">
                {row.device ? (
                  <Link to="/devices/$name" params={{ name: row.device }} className="font-semibold hover:underline">
                    {row.device}
                  </Link>
                ) : (
                  <strong>{row.uid}</strong>
                )}
                <span className="block text-soft text-xs">
                  {[row.model, row.serial && `serial ${row.serial}`, row.address].filter(Boolean).join(" · ")}
                </span>
              </span>
              <span>
                {WHY[row.cause]}.
                <span className="block text-soft text-xs" title={fullInstant(row.last_at, zone)}>
                  {counted(row.tries, "try", "tries")}, the last {relative(row.last_at, now)}
                </span>
              </span>
              <Remedy row={row} onAdd={() => setAdding({ uid: row.uid, serial: row.serial, model: row.model })} />
            </li>
          ))}
        </ul>
      )}
      {adding && <AddDeviceForm start={adding} onClose={() => setAdding(null)} />}
    </Card>
  );
}

/** What can be done about a refusal, and *Dismiss*. */
function Remedy({ row, onAdd }: { row: Attempt; onAdd: () => void }) {
  const client = useQueryClient();
  const mayOperate = useMay("operate-all");
  const mayAdminister = useMay("administer");
  const act = useMutation({
    mutationFn: async (how: "revoke" | "let-in" | "dismiss") => {
      if (how === "revoke")
        await api.POST("/api/v1/devices/{device}/secret/revoke", { params: deviceCalled(row.device ?? "") });
      else if (how === "let-in") await api.POST("/api/v1/admissions/let-in-again", { body: { uid: row.uid } });
      else await api.DELETE("/api/v1/admissions/attempts/{attempt_id}", { params: { path: { attempt_id: row.id } } });
      return how;
    },
    onSuccess: (how) => {
      devicesChanged(client);
      if (how === "revoke") toastWith("Its old secret is revoked. It enrols at its next try.", "OK", () => {});
      if (how === "let-in") toast("It may enrol again, as a new device.");
    },
  });
  return (
    <span className="flex flex-wrap justify-end gap-2">
      {row.cause === "enrolled" && row.device && mayOperate && (
        <Confirm
          trigger={<Button>Let it enrol again…</Button>}
          title={`Revoke the secret of ${row.device}?`}
          action="Revoke its secret"
          danger
          onConfirm={() => act.mutate("revoke")}
        >
          Whoever holds the old secret is shut out. The next device that enrols with this uid and a valid code becomes{" "}
          {row.device}, with its groups and orders. Be sure that it is the same one.
        </Confirm>
      )}
      {row.cause === "not-expected" && mayOperate && <Button onClick={onAdd}>Add device…</Button>}
      {row.cause === "unknown-model" && (
        <Link to="/library" search={{ shelf: "models" }} className="slot self-center">
          Models
        </Link>
      )}
      {["bad-code", "expired-code", "used-code"].includes(row.cause) && (
        <Link to="/library" search={{ shelf: "enrolment" }} className="slot self-center">
          Enrolment codes
        </Link>
      )}
      {row.cause === "removed" && mayAdminister && (
        <Button onClick={() => act.mutate("let-in")}>Let it in again</Button>
      )}
      {mayOperate && (
        <Button kind="quiet" disabled={act.isPending} onClick={() => act.mutate("dismiss")}>
          Dismiss
        </Button>
      )}
      <Problem error={act.error} />
    </span>
  );
}
