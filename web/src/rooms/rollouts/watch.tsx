/** Watching a rollout. In trouble the evidence comes first: why it stopped, common causes, which they are.
 * Then the lanes with their gates, the curve, and every device. */
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, counted, instant, percent } from "@/lib/format";
import { statusWords } from "@/lib/status";
import { AboutLine } from "@/parts/about-fields";
import { Comments } from "@/parts/comments";
import { Card } from "@/parts/controls";
import { Sentence } from "@/parts/sentence";
import { Timeline } from "@/parts/timeline";
import { Loaded } from "@/parts/views";
import { Actions } from "./actions";
import { DeliveryTable } from "./delivery-table";
import { Evidence, inTrouble } from "./evidence";
import { ForecastCard } from "./forecast";
import { Held } from "./held-devices";
import { Lane } from "./lane";
import { Progress } from "./progress";
import {
  ringDevices as marksQuery,
  progress as progressQuery,
  rolloutForecast,
  rolloutFreezes,
  rolloutTimeline,
} from "./queries";
import { Rename } from "./rename";
import { StatusBreakdown } from "./status-breakdown";

export function Watch({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const { now, zone } = useClock();
  const navigate = useNavigate();
  const marks = useQuery(marksQuery(rollout.id));
  const events = useQuery(rolloutTimeline(rollout.id));
  const mayOperate = useMay("operate");
  const [renaming, setRenaming] = useState(false);
  const launched = rollout.launched_at;
  return (
    <div className="h-full overflow-auto px-5 py-4">
      <div className="flex items-start gap-6 max-md:flex-col max-md:gap-3">
        <div className="min-w-0 flex-1">
          {rollout.name && <p className="font-semibold">{rollout.name}</p>}
          <Sentence className="text-[1.55rem]" parts={rollout.sentence} />
          <AboutLine reason={rollout.purpose} ticket={rollout.ticket} />
          <p className="mt-1 text-soft">
            Rollout {rollout.id}
            {launched && ` · launched ${instant(launched, zone, now)} by ${rollout.launched_by ?? "a script"}`}
            {rollout.state !== "halted" && (
              <>
                {" · "}
                <span className="font-semibold text-ink">{statusWords(rollout.status, zone, now)}</span>
              </>
            )}
            {rollout.with_file > 0 &&
              ` · ${counted(rollout.with_file, "waiting device has", "waiting devices have")} the file already`}
            {rollout.left_out > 0 && ` · ${counted(rollout.left_out, "device")} left out at preflight`}
            {mayOperate && (
              <>
                {" · "}
                <button type="button" className="slot" onClick={() => setRenaming(true)}>
                  {rollout.name ? "Rename…" : "Name it…"}
                </button>
              </>
            )}
          </p>
        </div>
        <Actions rollout={rollout} />
        {renaming && <Rename rollout={rollout} onClose={() => setRenaming(false)} />}
      </div>
      {inTrouble(rollout) && <Evidence rollout={rollout} />}
      {!inTrouble(rollout) && <Curve rollout={rollout} />}
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
          <Held rollout={rollout} />
          <Comments about="rollout" id={rollout.id} />
          <Card title="Latest" aside="one line a device" className="max-h-[30rem] overflow-auto">
            <Loaded of={events} what="The latest events" rows={6}>
              {(entries) => <Timeline perDevice entries={entries} />}
            </Loaded>
          </Card>
        </div>
      </div>
      {inTrouble(rollout) && <Curve rollout={rollout} />}
      <StatusBreakdown rollout={rollout} />
      <DeliveryTable rollout={rollout} />
    </div>
  );
}

function Curve({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const { now, zone } = useClock();
  const points = useQuery(progressQuery(rollout.id));
  const freezes = useQuery(rolloutFreezes(rollout.id));
  const told = useQuery({ ...rolloutForecast(rollout.id), enabled: rollout.state === "running" });
  const confirmed = rollout.phases.confirmed ?? 0;
  const window =
    rollout.window_start && rollout.window_end ? { start: rollout.window_start, end: rollout.window_end } : null;
  return (
    <Card
      className="mt-3"
      title="Confirmed on target"
      aside={`${count(confirmed)} of ${count(rollout.total)} confirmed${rollout.total ? ` · ${percent(confirmed / rollout.total)}` : ""}`}
    >
      <Loaded of={points} what="The curve" rows={4}>
        {(known) => (
          <Progress
            points={known}
            total={rollout.total}
            now={now}
            zone={zone}
            window={window}
            ended={rollout.ended_at}
            freezes={freezes.data}
            ahead={rollout.state === "running" ? told.data?.curve : undefined}
          />
        )}
      </Loaded>
    </Card>
  );
}
