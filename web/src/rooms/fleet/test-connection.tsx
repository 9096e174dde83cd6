/** Testing the connection to a device: a harmless order, and its round trip step by step. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { everyWords, fullInstant, relative, span } from "@/lib/format";
import { Button, Modal, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { byName, deviceTimeline } from "./queries";
import { isOver, stepsOf } from "./round-trip";

export function TestConnection({ device, onClose }: { device: Schemas["DeviceDetail"]; onClose: () => void }) {
  const client = useQueryClient();
  const { now } = useClock();
  const send = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/schedules", {
          body: {
            template: "report",
            include: [],
            include_devices: [byName(device.name)],
            when: "now",
            spread_minutes: 0,
            name: `Test of the connection to ${device.name}`,
          },
        }),
      ),
    onSuccess: () => changed(client, "schedule"),
  });
  return (
    <Modal open onClose={onClose} title={`Test the connection to ${device.name}`}>
      <p className="text-soft">
        It is reached by polling: it calls {everyWords(device.check_in_interval_seconds)}
        {device.last_check_in ? `, last ${relative(device.last_check_in, now)}` : ", and was never heard"}.{" "}
        {device.next_check_in &&
          (Date.parse(device.next_check_in) > now.getTime()
            ? `Its next call is expected ${relative(device.next_check_in, now)}.`
            : "Its next call is overdue.")}
      </p>
      {!send.data && (
        <p className="mt-3">
          The test asks it to say all of its facts, which changes nothing. There is no remote screen and no shell.
        </p>
      )}
      {send.data && <Steps device={device.name} schedule={send.data} />}
      <Problem error={send.error} />
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={onClose}>Close</Button>
        {!send.data && (
          <Button kind="main" disabled={send.isPending} onClick={() => send.mutate()}>
            Send the test
          </Button>
        )}
      </div>
    </Modal>
  );
}

function Steps({ device, schedule }: { device: string; schedule: Schemas["ScheduleDetail"] }) {
  const { now, zone } = useClock();
  const timeline = useQuery({ ...deviceTimeline(device, 40), refetchInterval: 1000 });
  return (
    <Loaded of={timeline} what="The steps" rows={3}>
      {(entries) => {
        const steps = stepsOf(entries, schedule.id, schedule.created_at);
        const over = isOver(entries, schedule.id);
        const last = steps.at(-1);
        return (
          <>
            <ol className="mt-3 border-rule border-l-2 pl-4" aria-label="Round trip" aria-live="polite">
              {steps.map((step) => (
                <li
                  key={step.at + step.words}
                  className="flex justify-between gap-4 py-1"
                  title={fullInstant(step.at, zone)}
                >
                  <span>{step.words}</span>
                  <span className="whitespace-nowrap text-soft tabular-nums">
                    {step.after ? `+ ${span(step.after)}` : ""}
                  </span>
                </li>
              ))}
              {!over && last && (
                <li className="py-1 text-soft">
                  waiting for it, since {span((now.getTime() - Date.parse(last.at)) / 1000)}…
                </li>
              )}
            </ol>
            <p className="mt-2 text-soft">
              {over ? "Kept as" : "It goes on when this is closed:"}{" "}
              <Link to="/commands/$id" params={{ id: String(schedule.id) }} search={{}} className="slot">
                command {schedule.id}
              </Link>
            </p>
          </>
        );
      }}
    </Loaded>
  );
}
