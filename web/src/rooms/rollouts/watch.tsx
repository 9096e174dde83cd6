/** Watching a rollout: the sentence as title, progress, lanes with gates, the devices, what happened. */
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import type { Schemas } from "@/api/client";
import {
  marks as marksQuery,
  progress as progressQuery,
  rolloutForecast,
  rolloutFreezes,
  rolloutTimeline,
} from "@/api/queries";
import { useClock } from "@/app/clock";
import { Card } from "@/parts/controls";
import { count, counted, instant, percent } from "@/parts/format";
import { Sentence } from "@/parts/sentence";
import { Timeline } from "@/parts/timeline";
import { Actions } from "./actions";
import { DeliveryTable } from "./delivery-table";
import { ForecastCard } from "./forecast";
import { Held } from "./held";
import { Lane } from "./lane";
import { Progress } from "./progress";
import { Shared } from "./shared";
import { statusWords } from "./status";
import { Where } from "./where";

export function Watch({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const { now, zone } = useClock();
  const navigate = useNavigate();
  const marks = useQuery(marksQuery(rollout.id));
  const points = useQuery(progressQuery(rollout.id));
  const events = useQuery(rolloutTimeline(rollout.id));
  const freezes = useQuery(rolloutFreezes(rollout.id));
  const told = useQuery({ ...rolloutForecast(rollout.id), enabled: rollout.state === "running" });
  const confirmed = rollout.phases.confirmed ?? 0;
  const launched = rollout.launched_at;
  const window =
    rollout.window_start && rollout.window_end ? { start: rollout.window_start, end: rollout.window_end } : null;
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="flex items-start gap-6">
        <div className="min-w-0 flex-1">
          <Sentence className="text-[1.55rem]" parts={rollout.sentence} />
          <p className="mt-1 text-soft">
            Rollout {rollout.id}
            {launched && ` · launched ${instant(launched, zone, now)} by ${rollout.launched_by ?? "a script"}`} ·{" "}
            <span className="font-semibold text-ink">{statusWords(rollout.status, zone, now)}</span>
            {rollout.with_file > 0 &&
              ` · ${counted(rollout.with_file, "waiting device has", "waiting devices have")} the file already`}
            {rollout.left_out > 0 && ` · ${counted(rollout.left_out, "device")} left out at preflight`}
          </p>
        </div>
        <Actions rollout={rollout} />
      </div>
      <Card
        className="mt-3"
        title="Confirmed on target"
        aside={`${count(confirmed)} of ${count(rollout.total)} confirmed${rollout.total ? ` · ${percent(confirmed / rollout.total)}` : ""}`}
      >
        <Progress
          points={points.data ?? []}
          total={rollout.total}
          now={now}
          zone={zone}
          window={window}
          ended={rollout.ended_at}
          freezes={freezes.data}
          ahead={rollout.state === "running" ? told.data?.curve : undefined}
        />
      </Card>
      <div className="mt-3 grid grid-cols-[1fr_300px] gap-3 max-lg:grid-cols-1">
        <section aria-label="Rings" className="rounded-md border border-rule bg-card">
          {rollout.rings.map((ring, i) => (
            <Lane
              key={ring.id}
              ring={ring}
              last={i === rollout.rings.length - 1}
              marks={marks.data?.find((m) => m.ring === ring.id)?.marks}
              rollout={rollout}
              onPick={(device) => navigate({ to: "/devices/$name", params: { name: device } })}
            />
          ))}
        </section>
        <div className="space-y-3">
          <ForecastCard rollout={rollout} />
          <Shared rollout={rollout} />
          <Held rollout={rollout} />
          <Card title="Latest" className="max-h-[30rem] overflow-auto">
            {events.data && <Timeline entries={events.data.slice(0, 30)} />}
          </Card>
        </div>
      </div>
      <Where rollout={rollout} />
      <DeliveryTable rollout={rollout} />
    </div>
  );
}
