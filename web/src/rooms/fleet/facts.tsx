/** What a device reports of itself, since when each is so, and asking it to say everything anew. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, body, type Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { fullInstant, instant, inWords, relative } from "@/lib/format";
import { Button, Card, Problem } from "@/parts/controls";
import { Pairs } from "@/parts/pairs";
import { LiveView } from "./live-view";
import { deviceCalled, device as deviceQuery } from "./queries";

export function Facts({ device: d }: { device: Schemas["DeviceDetail"] }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const ask = useMutation({
    mutationFn: () => body(api.POST("/api/v1/devices/{device}/request-report", { params: deviceCalled(d.name) })),
    onSuccess: (asked) => client.setQueryData(deviceQuery(d.name).queryKey, asked),
  });
  const since = (d.facts_since ?? {}) as Record<string, string | null>;
  const facts = Object.entries(d.facts as Record<string, unknown>);
  return (
    <Card
      title="Facts"
      aside={
        d.last_check_in ? (
          <span title={fullInstant(d.last_check_in, zone)}>as of {relative(d.last_check_in, now)}</span>
        ) : (
          "never heard"
        )
      }
    >
      <Pairs
        rows={facts.map(([key, value]) => [
          key,
          <span key={key}>
            {inWords(value)}
            {since[key] && (
              <span className="ml-2 text-soft text-xs" title={fullInstant(since[key], zone)}>
                since {instant(since[key], zone, now)}
              </span>
            )}
          </span>,
        ])}
      />
      {facts.length === 0 && <p className="text-soft">It has reported none.</p>}
      <div className="mt-2" aria-live="polite">
        {d.report_asked_at ? (
          <p className="text-saffron-ink">
            Asked {relative(d.report_asked_at, now)} to report everything; it is told at its next call
            {d.next_check_in && `, expected ${relative(d.next_check_in, now)}`}.
          </p>
        ) : (
          <Button
            needs="operate"
            kind="quiet"
            disabled={ask.isPending || d.admission === "retired"}
            onClick={() => ask.mutate()}
          >
            Ask it to report at its next call
          </Button>
        )}
        <Problem error={ask.error} />
      </div>
      <LiveView device={d} />
    </Card>
  );
}
