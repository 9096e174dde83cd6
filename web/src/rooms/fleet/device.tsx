/** One device: identity, facts, groups and since when, orders, its timeline, its own clock. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { DateTime } from "luxon";
import { useState } from "react";
import { byName, deviceOrders, device as deviceQuery, deviceTimeline } from "@/api/queries";
import { useClock } from "@/app/clock";
import { deviceRoute } from "@/app/router";
import { Button, Card, Modal, Problem } from "@/parts/controls";
import { Dial } from "@/parts/dial";
import { city, fullInstant, instant, relative, waitWords } from "@/parts/format";
import { Pairs } from "@/parts/pairs";
import { IN_HAND, LOOK } from "@/parts/phases";
import { Timeline } from "@/parts/timeline";
import { Described } from "./described";
import { DeviceActions } from "./device-actions";
import { EditPanel } from "./edit-panel";
import { Facts } from "./facts";
import { type OneDeviceAct, OneDeviceDialog, OneDeviceItems } from "./one-device-acts";
import { Upcoming } from "./upcoming";
import { Why } from "./why";

/** When it is expected to call, or since when it is overdue; a moment that is past is not *next*. */
function nextCheckIn(at: string | null | undefined, now: Date): string {
  if (!at) return "unknown";
  const late = now.getTime() - new Date(at).getTime();
  return late > 0 ? `overdue, expected ${relative(at, now)}` : `expected ${relative(at, now)}`;
}

export function DevicePage() {
  const { name } = deviceRoute.useParams();
  const { now, zone } = useClock();
  const { data: d, error } = useQuery(deviceQuery(name));
  const [editing, setEditing] = useState(false);
  const [act, setAct] = useState<OneDeviceAct | null>(null);
  const orders = useQuery(deviceOrders(name));
  const timeline = useQuery(deviceTimeline(name));
  if (error && !d)
    return (
      <div className="p-6">
        <Problem error={error} />
      </div>
    );
  if (!d) return null;
  const there = DateTime.fromJSDate(now, { zone: d.time_zone || "UTC" });
  const inHand = orders.data?.find((o) => IN_HAND.includes(o.phase));
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="flex items-start justify-between">
        <h1 className="text-2xl">{d.name}</h1>
        <div className="flex gap-2">
          <Button onClick={() => setEditing(true)}>Edit…</Button>
          <DeviceActions devices={[d.name]} label="Actions">
            <OneDeviceItems device={d} onChoose={setAct} />
          </DeviceActions>
        </div>
      </div>
      {act && <OneDeviceDialog device={d} act={act} onClose={() => setAct(null)} />}
      <Modal open={editing} onClose={() => setEditing(false)} title={`Edit ${d.name}`}>
        <EditPanel target={{ devices: [byName(d.name)], rule: "" }} onDone={() => setEditing(false)} />
      </Modal>
      <p className="mb-4 text-soft">
        {d.model} revision {d.hardware_revision} · {d.site} · {city(d.time_zone)}, there it is{" "}
        <strong className="text-ink">{there.toFormat("ccc HH:mm")}</strong>
      </p>
      <div className="grid grid-cols-3 items-start gap-4 max-lg:grid-cols-1">
        <div className="space-y-4">
          <Card title="Identity">
            <Pairs
              rows={[
                [
                  "Firmware",
                  <strong key="f" className="font-mono">
                    {d.firmware ?? "none reported"}
                  </strong>,
                ],
                [
                  "UID",
                  <span key="u" className="font-mono">
                    {d.uid}
                  </span>,
                ],
                [
                  "Serial",
                  <span key="s" className="font-mono">
                    {d.serial}
                  </span>,
                ],
                ["Admission", d.admission],
                ["Presence", d.presence],
                [
                  "Last check-in",
                  d.last_check_in ? (
                    <span key="c" title={fullInstant(d.last_check_in, zone)}>
                      {relative(d.last_check_in, now)}
                    </span>
                  ) : (
                    "never"
                  ),
                ],
                ["Next check-in", nextCheckIn(d.next_check_in, now)],
                ["Secret", d.has_secret ? "issued" : "none: it has not enrolled"],
                ["Health", d.healthy ? "good" : d.fault || "reports a fault"],
              ]}
            />
          </Card>
          <Described device={d} />
        </div>
        <div className="space-y-4">
          <Card title="Current order">
            {inHand ? (
              <p className="flex items-start gap-2">
                <span className="pt-1">
                  <Dial phase={inHand.phase} />
                </span>
                <span>
                  <strong>{inHand.what}</strong>, {LOOK[inHand.phase].word}
                  {inHand.waits_for && (
                    <span className="block text-soft">waits for {waitWords(inHand.waits_for, now)}</span>
                  )}
                </span>
              </p>
            ) : (
              <p className="text-soft">Nothing. It has no order to carry out now.</p>
            )}
          </Card>
          <Upcoming device={d.name} />
          <Card title="Orders">
            <ul className="space-y-2">
              {orders.data?.slice(0, 14).map((o) => (
                <li key={o.id} className="flex items-start gap-2">
                  <span className="pt-[3px]">
                    <Dial phase={o.phase} />
                  </span>
                  <span className="min-w-0 flex-1">
                    {o.rollout ? (
                      <Link
                        to="/rollouts/$id"
                        params={{ id: String(o.rollout) }}
                        search={{}}
                        className="font-semibold hover:underline"
                      >
                        {o.what}
                      </Link>
                    ) : (
                      <Link
                        to="/commands/$id"
                        params={{ id: String(o.schedule) }}
                        search={{}}
                        className="font-semibold hover:underline"
                      >
                        {o.what}
                      </Link>
                    )}{" "}
                    {LOOK[o.phase].word} <span className="text-soft">{instant(o.phase_since, zone, now)}</span>
                    {o.waits_for && <span className="block text-soft">waits for {waitWords(o.waits_for, now)}</span>}
                    {o.last_error && <span className="block font-mono text-brick text-xs">{o.last_error}</span>}
                  </span>
                </li>
              ))}
              {orders.data?.length === 0 && <li className="text-soft">It never had one.</li>}
            </ul>
          </Card>
          <Why device={d} />
          <Facts device={d} />
        </div>
        <Card title="History">
          <Timeline entries={timeline.data ?? []} showDevice={false} />
        </Card>
      </div>
    </div>
  );
}
