/** Watching a device live: its facts every few seconds, for some minutes, and what changed meanwhile. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { fullInstant, instant, inWords, relative } from "@/lib/format";
import { Button, Problem } from "@/parts/controls";
import { changesBetween, type LiveChange, withChanges } from "./live-changes";
import { deviceCalled, device as deviceQuery } from "./queries";

/** A page shows what a live device says about as soon as it says it. */
const EVERY_MS = 2000;

export function LiveView({ device: d }: { device: Schemas["DeviceDetail"] }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const path = { params: deviceCalled(d.name) };
  const key = deviceQuery(d.name).queryKey;
  const start = useMutation({
    mutationFn: () => body(api.POST("/api/v1/devices/{device}/live", path)),
    onSuccess: (asked) => client.setQueryData(key, asked),
  });
  const stop = useMutation({
    mutationFn: () => api.DELETE("/api/v1/devices/{device}/live", path),
    onSuccess: () => client.invalidateQueries({ queryKey: key }),
  });
  const isLive = d.live_until !== null && Date.parse(d.live_until) > now.getTime();
  const isAsked = !isLive && d.live_asked_at !== null;
  useQuery({ ...deviceQuery(d.name), refetchInterval: EVERY_MS, enabled: isLive || isAsked });
  const changes = useChanges(d, isLive);
  return (
    <section aria-label="Live view" className="mt-2 border-rule border-t border-dashed pt-2">
      <div aria-live="polite">
        {isLive && d.live_until && (
          <p className="flex items-center justify-between gap-3">
            <span>
              <strong>Live</strong> until {instant(d.live_until, zone, now)}: it says its facts every few seconds.
            </span>
            <Button needs="operate" disabled={stop.isPending} onClick={() => stop.mutate()}>
              Stop
            </Button>
          </p>
        )}
        {isAsked && (
          <p className="flex items-center justify-between gap-3 text-saffron-ink">
            <span>
              Live from its next call on
              {d.next_check_in &&
                `, ${Date.parse(d.next_check_in) > now.getTime() ? "expected" : "overdue since"} ${relative(d.next_check_in, now)}`}
              .
            </span>
            <Button needs="operate" disabled={stop.isPending} onClick={() => stop.mutate()}>
              Stop
            </Button>
          </p>
        )}
      </div>
      {!isLive && !isAsked && (
        <>
          <Button
            needs="operate"
            kind="quiet"
            disabled={start.isPending || d.admission === "retired" || !d.has_secret}
            onClick={() => start.mutate()}
          >
            Watch it live for ten minutes
          </Button>
          <p className="text-soft text-xs">Its facts every few seconds. There is no remote screen and no shell.</p>
        </>
      )}
      {changes.length > 0 && (
        <ul aria-label="What changed" className="mt-2 space-y-0.5">
          {changes.map((c) => (
            <li key={c.at + c.key} className="flex justify-between gap-3">
              <span>
                {c.key} <span className="text-soft line-through">{said(c.before)}</span>{" "}
                <strong>{said(c.after)}</strong>
              </span>
              <span className="whitespace-nowrap text-soft" title={fullInstant(c.at, zone)}>
                {relative(c.at, now)}
              </span>
            </li>
          ))}
        </ul>
      )}
      {isLive && changes.length === 0 && <p className="mt-1 text-soft">Nothing has changed since.</p>}
      <Problem error={start.error ?? stop.error} />
    </section>
  );
}

const said = (value: unknown) => (value === undefined ? "not reported" : inWords(value));

/** What changed since it is live, the latest first; it stays to be read when it is over. */
function useChanges(d: Schemas["DeviceDetail"], isLive: boolean): LiveChange[] {
  const facts = d.facts as Record<string, unknown>;
  const text = JSON.stringify(facts);
  const last = useRef(text);
  const [changes, setChanges] = useState<LiveChange[]>([]);
  const at = d.last_check_in ?? "";
  useEffect(() => {
    if (last.current === text) return;
    const more = changesBetween(JSON.parse(last.current), JSON.parse(text), at);
    last.current = text;
    if (isLive) setChanges((kept) => withChanges(kept, more));
  }, [text, at, isLive]);
  return changes;
}
