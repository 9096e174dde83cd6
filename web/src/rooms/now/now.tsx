/** Now: what waits for a decision, what moves, what comes next, what wants attention. */
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link } from "@tanstack/react-router";
import type { Schemas } from "@/api/client";
import { useLimits } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { city, count, counted, instant, relative } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { ComingList } from "@/parts/coming-list";
import { Empty } from "@/parts/controls";
import { NoDevices } from "@/parts/no-devices";
import { RolloutStrip } from "@/parts/rollout-row";
import { WholePage } from "@/parts/views";
import { ZoneRows } from "@/parts/zone-rows";
import { AboutLink } from "./attention-item";
import { headline, MARK } from "./now-words";
import { EverythingPaused, PauseEverything } from "./pause-everything";
import { now as nowQuery, standing } from "./queries";
import { SinceLastVisit } from "./since";
import { standingWords } from "./standing-words";
import { Wall } from "./wall";

const route = getRouteApi("/");
export function Now() {
  usePageTitle("Now");
  const { wall } = route.useSearch();
  const asked = useQuery(nowQuery);
  return (
    <WholePage of={asked} what="What happens now">
      {(data) => (wall ? <Wall data={data} /> : <Shown data={data} />)}
    </WholePage>
  );
}

function Shown({ data }: { data: Schemas["NowView"] }) {
  const { now, zone } = useClock();
  const moving = data.moving.filter((r) => r.status.code === "moving").length;
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_320px] max-xl:grid-cols-[minmax(0,1fr)_290px] max-md:block max-md:overflow-auto">
      <div className="overflow-auto px-5 py-4">
        <div className="mb-4 flex flex-wrap items-baseline justify-between gap-x-6">
          <h1 className="text-2xl">
            {headline(data.decisions.length, moving, data.moving.length, data.troubles.length > 0)}
          </h1>
          <div className="flex items-baseline gap-4">
            <p className="text-soft">
              {counted(data.devices, "device")} · {count(data.heard)} heard from in the last {data.heard_within_minutes}{" "}
              min{data.counted_at && `, counted ${relative(data.counted_at, now)}`}
            </p>
            <PauseEverything />
          </div>
        </div>
        {data.devices > 0 && <StandingLine />}
        {data.paused && <EverythingPaused standing={data.paused} />}
        <h2 className="mb-1.5 text-[1.05rem]">Waits for a decision</h2>
        <div className="mb-5 rounded-md border border-rule bg-card">
          {data.decisions.length === 0 && (
            <p className="px-4 py-3 text-soft">Nothing. Halts, pauses and gates that cannot be met come up here.</p>
          )}
          {data.decisions.map((d) => {
            const [shape, tone] = MARK[d.kind as keyof typeof MARK] ?? MARK.stuck;
            return (
              <div
                key={`${d.kind}${d.rollout}`}
                className="flex items-center gap-4 border-rule border-b border-dashed px-4 py-3 last:border-0 max-md:flex-wrap max-md:gap-2"
              >
                <span className={tone} aria-hidden>
                  {shape}
                </span>
                <div className="min-w-0 flex-1">
                  <strong>{d.title}</strong>
                  <div className="text-soft">{d.detail}</div>
                </div>
                <Link
                  to="/rollouts/$id"
                  params={{ id: String(d.rollout) }}
                  search={{}}
                  className="rounded-sm border border-ink px-3 py-1 font-semibold hover:bg-side"
                >
                  Look
                </Link>
              </div>
            );
          })}
        </div>
        <h2 className="mb-1.5 text-[1.05rem]">Running</h2>
        <div className="rounded-md border border-rule bg-card">
          {data.devices === 0 && data.moving.length === 0 ? (
            <NoDevices />
          ) : data.moving.length === 0 ? (
            <Empty title="No rollout is running">
              <Link to="/rollouts/new" className="slot">
                Put a firmware image on a group
              </Link>
              , ring by ring.
            </Empty>
          ) : (
            <ul>
              {data.moving.map((r) => (
                <RolloutStrip key={r.id} rollout={r} />
              ))}
            </ul>
          )}
        </div>
        <SinceLastVisit />
      </div>
      <aside
        className="overflow-auto border-rule border-l bg-side px-4 py-4"
        aria-label="What comes and what wants attention"
      >
        <h2 className="text-[1.05rem]">The next 24 hours</h2>
        <p className="mb-2 text-soft">
          your time, {city(zone)}; nights are shaded where the devices are
          {data.counted_at && `; devices counted ${relative(data.counted_at, now)}`}
        </p>
        <ZoneRows
          zones={data.zones}
          from={now}
          hours={24}
          zone={zone}
          marks={data.coming.map((c) => ({ zone: c.zone, at: c.at, text: `${c.text}: ${c.detail}`, kind: c.kind }))}
        />
        <ComingList
          items={data.coming}
          most={8}
          empty="No command fires within a day, and no window, ring or freeze begins."
        />
        <div className="mt-6 mb-1 flex items-baseline justify-between">
          <h2 className="text-[1.05rem]">Wants attention</h2>
          <Link
            to="/attention"
            search={data.snoozed && !data.attention.length ? { state: "snoozed" } : {}}
            className="slot"
          >
            {data.snoozed ? `All items, ${count(data.snoozed)} put off` : "All items"}
          </Link>
        </div>
        <ul>
          {data.attention.map((a) => (
            <AttentionRow key={a.id} item={a} />
          ))}
          {data.attention.length === 0 && <li className="text-soft">Nothing.</li>}
        </ul>
      </aside>
    </div>
  );
}

/** How much of the fleet is where it should be; it leads to how that came about. */
function StandingLine() {
  const { now, zone } = useClock();
  const limits = useLimits();
  const { data } = useQuery({ ...standing, enabled: limits === null }); // its samples count the whole fleet
  return (
    <p className="mb-4 min-h-[1.5em]">
      {limits !== null && (
        <span className="text-soft">
          This is your part of the fleet. Rollouts, commands and attention items that reach beyond it are not shown.
        </span>
      )}
      {data && data.devices > 0 && (
        <Link to="/fleet-over-time" search={{}} className="hover:underline">
          {standingWords(data, (at) => instant(at, zone, now))}
        </Link>
      )}
    </p>
  );
}

/** An item leads to what it is about; who looks after it, or knows of it, stands with it. */
function AttentionRow({ item }: { item: Schemas["AttentionItem"] }) {
  const who = item.assigned_to ?? item.acknowledged_by;
  return (
    <li className="py-1">
      <AboutLink
        item={item}
        className={`flex min-h-[24px] items-start justify-between gap-2 hover:underline ${item.kind === "quarantined" ? "text-brick" : ""}`}
      >
        <span>{item.text}</span>
        {item.count !== null && <strong>{count(item.count)}</strong>}
      </AboutLink>
      {item.shared[0] && (
        <p className="text-soft text-xs">
          {item.shared[0].rule}: {item.shared[0].words}
        </p>
      )}
      {who && (
        <p className="text-soft text-xs">
          {who.name} {item.assigned_to ? "looks after it" : "knows of it"}
        </p>
      )}
    </li>
  );
}
