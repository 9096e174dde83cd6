/** One device: identity, facts, groups and since when, orders, its timeline, its own clock. */
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { getRouteApi, Link } from "@tanstack/react-router";
import { DateTime } from "luxon";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { city, fullInstant, instant, relative, waitWords } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Button, Card, Modal } from "@/parts/controls";
import { Dial } from "@/parts/dial";
import { More } from "@/parts/list-parts";
import { MenuItem } from "@/parts/menu";
import { ObjectLink } from "@/parts/object-link";
import { Pairs } from "@/parts/pairs";
import { IN_HAND, LOOK } from "@/parts/phases";
import { Timeline } from "@/parts/timeline";
import { Loaded, WholePage } from "@/parts/views";
import { AttributesCard } from "./attributes-card";
import { DeviceActions } from "./device-actions";
import { Why } from "./device-groups";
import { EditPanel } from "./edit-panel";
import { Facts } from "./facts";
import { type OneDeviceAction, OneDeviceDialog, OneDeviceItems } from "./one-device-actions";
import { ownPage } from "./own-page";
import { byName, deviceOrders, device as deviceQuery, deviceTimeline } from "./queries";
import { TestConnection } from "./test-connection";
import { Upcoming } from "./upcoming";

const deviceRoute = getRouteApi("/devices/$name");

/** When it is expected to call, or since when it is overdue; a moment that is past is not *next*. */
function nextCheckIn(at: string | null | undefined, now: Date): string {
  if (!at) return "unknown";
  const late = now.getTime() - new Date(at).getTime();
  return late > 0 ? `overdue, expected ${relative(at, now)}` : `expected ${relative(at, now)}`;
}

/** What it says of its health; nothing is claimed of one that was never heard. */
function healthWords(d: Schemas["DeviceDetail"]): string {
  if (!d.last_check_in) return "unknown: never heard from";
  return d.healthy ? "good" : d.fault || "reports a fault";
}

export function DevicePage() {
  const { name } = deviceRoute.useParams();
  const asked = useQuery(deviceQuery(name));
  usePageTitle(asked.data && name);
  return (
    <WholePage of={asked} what={`The device ${name}`}>
      {(device) => <Shown key={device.id} device={device} />}
    </WholePage>
  );
}

function Shown({ device: d }: { device: Schemas["DeviceDetail"] }) {
  const { name } = d;
  const { now, zone } = useClock();
  const [editing, setEditing] = useState(false);
  const [testing, setTesting] = useState(false);
  const mayOperate = useMay("operate");
  const [act, setAct] = useState<OneDeviceAction | null>(null);
  const orders = useInfiniteQuery(deviceOrders(name));
  const [events, setEvents] = useState(100);
  const timeline = useQuery(deviceTimeline(name, events));
  const page = ownPage(d.facts);
  const there = DateTime.fromJSDate(now, { zone: d.time_zone || "UTC" });
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="flex items-start justify-between">
        <h1 className="text-2xl">{d.name}</h1>
        <div className="flex gap-2">
          <Button needs="operate-all" onClick={() => setEditing(true)}>
            Edit…
          </Button>
          <DeviceActions devices={[d.name]} label="Actions">
            {mayOperate && d.admission === "admitted" && (
              <MenuItem onSelect={() => setTesting(true)}>Test the connection…</MenuItem>
            )}
            <OneDeviceItems device={d} onChoose={setAct} />
          </DeviceActions>
        </div>
      </div>
      {testing && <TestConnection device={d} onClose={() => setTesting(false)} />}
      {act && <OneDeviceDialog device={d} act={act} onClose={() => setAct(null)} />}
      <Modal open={editing} onClose={() => setEditing(false)} title={`Edit ${d.name}`}>
        <EditPanel target={{ devices: [byName(d.name)], rule: "" }} onDone={() => setEditing(false)} />
      </Modal>
      <p className="mb-4 text-soft">
        {d.model} revision {d.hardware_revision} ·{" "}
        {d.site_id === null ? (
          "no site"
        ) : (
          <ObjectLink kind="site" id={d.site_id} className="slot">
            {d.site}
          </ObjectLink>
        )}{" "}
        · {city(d.time_zone)}, there it is <strong className="text-ink">{there.toFormat("ccc HH:mm")}</strong>
        {page && (
          <>
            {" · "}
            <a className="slot" href={page} target="_blank" rel="noreferrer noopener">
              its own page
            </a>
          </>
        )}
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
                ["Health", healthWords(d)],
              ]}
            />
          </Card>
          <AttributesCard device={d} />
        </div>
        <div className="space-y-4">
          <Card title="Current order">
            <Loaded of={orders} what="Its orders" rows={1}>
              {(all) => (
                <CurrentOrder order={all.pages.flatMap((p) => p.deliveries).find((o) => IN_HAND.includes(o.phase))} />
              )}
            </Loaded>
          </Card>
          <Upcoming device={d.name} />
          <Card title="Orders">
            <Loaded
              of={orders}
              what="Its orders"
              rows={4}
              isEmpty={(all) => all.pages[0]?.count === 0}
              empty={<p className="text-soft">It never had one.</p>}
            >
              {(all) => (
                <>
                  <ul className="space-y-2">
                    {all.pages
                      .flatMap((p) => p.deliveries)
                      .map((o) => (
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
                            {o.waits_for && (
                              <span className="block text-soft">waits for {waitWords(o.waits_for, now)}</span>
                            )}
                            {o.last_error && <span className="block font-mono text-brick text-xs">{o.last_error}</span>}
                          </span>
                        </li>
                      ))}
                  </ul>
                  <More
                    of={orders}
                    shown={all.pages.reduce((n, p) => n + p.deliveries.length, 0)}
                    all={all.pages[0]?.count ?? 0}
                    what="orders"
                  />
                </>
              )}
            </Loaded>
          </Card>
          <Why device={d} />
          <Facts device={d} />
        </div>
        <Card title="History">
          <Loaded of={timeline} what="Its history" rows={6}>
            {(entries) => (
              <>
                <Timeline entries={entries} showDevice={false} />
                {entries.length >= events && events < 1000 && (
                  <p className="mt-2 flex items-center gap-3 text-soft">
                    The latest {events}.<Button onClick={() => setEvents(Math.min(1000, events * 3))}>Show more</Button>
                  </p>
                )}
              </>
            )}
          </Loaded>
        </Card>
      </div>
    </div>
  );
}

function CurrentOrder({ order }: { order: Schemas["DeliveryRow"] | undefined }) {
  const { now } = useClock();
  if (!order) return <p className="text-soft">None: it has nothing to carry out now.</p>;
  return (
    <p className="flex items-start gap-2">
      <span className="pt-1">
        <Dial phase={order.phase} />
      </span>
      <span>
        <strong>{order.what}</strong>, {LOOK[order.phase].word}
        {order.waits_for && <span className="block text-soft">waits for {waitWords(order.waits_for, now)}</span>}
      </span>
    </p>
  );
}
