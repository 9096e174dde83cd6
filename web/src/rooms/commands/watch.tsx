/** Watching a command: its sentence, its firings zone by zone, and every device. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { getRouteApi, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { city, count, counted, instant } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Button, Card, Confirm, Modal, Problem } from "@/parts/controls";
import { useDeliveryColumns } from "@/parts/delivery-columns";
import { IN_HAND, IN_MOTION, OFFERED, OUT, sum, summary } from "@/parts/phases";
import { Sentence } from "@/parts/sentence";
import { Table } from "@/parts/table";
import { isCount, TypedCount } from "@/parts/typed-count";
import { Inline, Loaded, WholePage } from "@/parts/views";
import { scheduleDeliveries, schedule as scheduleQuery } from "./queries";

const commandRoute = getRouteApi("/commands/$id");

type Row = Schemas["ScheduleRow"];

export function CommandPage() {
  const { id } = commandRoute.useParams();
  const search = commandRoute.useSearch();
  const navigate = useNavigate({ from: "/commands/$id" });
  const { now, zone } = useClock();
  const asked = useQuery(scheduleQuery(Number(id)));
  usePageTitle(asked.data && `Command ${id}`);
  const deliveries = useQuery(scheduleDeliveries(Number(id), search.phase ?? ""));
  const columns = useDeliveryColumns(now).filter((c) => !["ring", "firmware"].includes(c.key));
  return (
    <WholePage of={asked} what={`Command ${id}`}>
      {(data) => (
        <div className="flex h-full flex-col gap-3 overflow-auto px-5 py-4">
          <div className="flex items-start gap-6">
            <div className="min-w-0 flex-1">
              <Sentence className="text-[1.55rem]" parts={data.sentence} />
              <p className="mt-1 text-soft">
                Schedule {data.id} · since {instant(data.created_at, zone, now)}
                {data.created_by && ` by ${data.created_by}`} ·{" "}
                <span className={data.quarantined ? "text-brick" : "text-ink"}>{data.status.words}</span>
                {data.next_firing &&
                  ` · next: ${city(data.next_zone ?? "")} ${instant(data.next_firing, zone, now)} (your clock)`}
              </p>
            </div>
            <Acts schedule={data} />
          </div>
          <Card title="Firings, by zone" aside="the latest at the left; filled by those that confirmed">
            <Firings schedule={data} />
          </Card>
          <div className="flex items-center gap-3">
            <h2 className="text-[1.05rem]">Devices</h2>
            <select
              className="field"
              aria-label="Phase"
              value={search.phase ?? ""}
              onChange={(e) => navigate({ search: { phase: e.target.value || undefined }, replace: true })}
            >
              <option value="">every phase</option>
              <option value="waiting">waiting</option>
              <option value={IN_MOTION.join(",")}>in motion</option>
              <option value={OFFERED.join(",")}>offered</option>
              <option value="confirmed">confirmed</option>
              <option value="failed">failed</option>
              <option value={OUT.join(",")}>missed or withdrawn</option>
            </select>
            <p className="ml-auto text-soft" aria-live="polite">
              {summary(data.phases)} in the latest firings ·{" "}
              <Inline of={deliveries}>{(found) => `${count(found.count)} listed`}</Inline>
            </p>
          </div>
          <Loaded of={deliveries} what="The devices" rows={8} className="min-h-64 flex-1">
            {(found) => (
              <Table
                label="Deliveries"
                rows={found.deliveries}
                columns={columns}
                onOpen={(d) => navigate({ to: "/devices/$name", params: { name: d.device } })}
                empty={search.phase ? "No device is in this phase." : "It has not fired for any device yet."}
              />
            )}
          </Loaded>
        </div>
      )}
    </WholePage>
  );
}

function Firings({ schedule }: { schedule: Row }) {
  const { now, zone } = useClock();
  const zones = [...new Set(schedule.occurrences.map((o) => o.zone))].sort();
  if (zones.length === 0) return <p className="text-soft">It has not fired yet.</p>;
  return (
    <ul className="space-y-1.5">
      {zones.map((name) => (
        <li key={name} className="grid grid-cols-[6rem_1fr] items-center">
          <span className="font-semibold">{city(name)}</span>
          <span className="flex flex-wrap gap-1.5">
            {schedule.occurrences
              .filter((o) => o.zone === name)
              .map((o) => {
                const done = (o.phases.confirmed ?? 0) / (o.audience || 1);
                const bad = ((o.phases.failed ?? 0) + sum(o.phases, OUT)) / (o.audience || 1);
                const words = `${summary(o.phases)}${o.unsupported_count ? ` · ${count(o.unsupported_count)} left out: their firmware cannot do it` : ""}`;
                return (
                  <span
                    key={o.id}
                    role="img"
                    aria-label={`${instant(o.fires_at, zone, now)}: ${words}`}
                    title={`${instant(o.fires_at, zone, now)}, your clock: ${words}`}
                    className="relative block h-6 w-6 overflow-hidden rounded-sm border border-rule bg-rule"
                  >
                    <span
                      className="absolute bottom-0 left-0 w-full bg-verdigris"
                      style={{ height: `${done * 100}%` }}
                    />
                    <span className="absolute top-0 left-0 w-full bg-brick" style={{ height: `${bad * 100}%` }} />
                  </span>
                );
              })}
          </span>
        </li>
      ))}
    </ul>
  );
}

function Acts({ schedule }: { schedule: Row }) {
  const client = useQueryClient();
  const path = { params: { path: { schedule_id: schedule.id } } };
  const act = useMutation({
    mutationFn: async (verb: "pause" | "resume" | "end" | "run"): Promise<string> => {
      switch (verb) {
        case "pause":
          await api.POST("/api/v1/schedules/{schedule_id}/pause", path);
          return "Paused: it fires no more for now";
        case "resume":
          await api.POST("/api/v1/schedules/{schedule_id}/resume", path);
          return "It fires again; what was missed is not caught up";
        case "end":
          await api.POST("/api/v1/schedules/{schedule_id}/end", path);
          return "Ended";
        case "run": {
          const { devices } = await body(
            api.POST("/api/v1/schedules/{schedule_id}/run", { ...path, body: { devices: schedule.reached_now } }),
          );
          return `Running once for ${counted(devices, "device")}`;
        }
      }
    },
    onSuccess: (text) => {
      changed(client, "schedule");
      toast(text);
    },
  });
  const mayOperate = useMay("operate");
  if (schedule.state === "ended") return null;
  const inHand = sum(schedule.phases, IN_HAND);
  return (
    <div className="flex flex-col items-end gap-2">
      <div className="flex gap-2">
        {mayOperate && <RunOnce schedule={schedule} onRun={() => act.mutate("run")} />}
        {schedule.state === "active" ? (
          <Button needs="stop" onClick={() => act.mutate("pause")}>
            Pause
          </Button>
        ) : (
          <Button needs="operate" kind="main" onClick={() => act.mutate("resume")}>
            Resume
          </Button>
        )}
        <Confirm
          needs="stop"
          trigger={<Button kind="danger">End…</Button>}
          title="End this command for good?"
          action="End it"
          danger
          onConfirm={() => act.mutate("end")}
        >
          It fires no more. {counted(schedule.phases.waiting ?? 0, "waiting device")} are withdrawn;{" "}
          {inHand ? `${counted(inHand, "device")} at it may finish.` : "none works on it."}
        </Confirm>
      </div>
      <Problem error={act.error} />
    </div>
  );
}

/** Running it besides its times: what it reaches is said, and typed where it is disruptive. */
function RunOnce({ schedule, onRun }: { schedule: Row; onRun: () => void }) {
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState("");
  const reached = schedule.reached_now;
  const isTyped = schedule.harm === "gentle" || isCount(typed, reached);
  const close = () => {
    setOpen(false);
    setTyped("");
  };
  return (
    <>
      <Button onClick={() => setOpen(true)}>Run once now…</Button>
      <Modal open={open} onClose={close} title="Run it once, now">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            if (!isTyped || reached === 0) return;
            onRun();
            close();
          }}
        >
          <p>It runs on {counted(reached, "device")} now, besides its own times. Each is silent for a minute or two.</p>
          {schedule.harm !== "gentle" && reached > 0 && (
            <div className="mt-3">
              <span className="text-soft">Type the number of devices to run it.</span>
              <TypedCount className="mt-1 block" reached={reached} value={typed} onChange={setTyped} />
            </div>
          )}
          <div className="mt-4 flex justify-end gap-2">
            <Button onClick={close}>Cancel</Button>
            <Button kind="main" type="submit" disabled={!isTyped || reached === 0}>
              Run it on {counted(reached, "device")}
            </Button>
          </div>
        </form>
      </Modal>
    </>
  );
}
