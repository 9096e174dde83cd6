/** Moving something: to when, what that does to forecasts, firings and what fits, and only then kept; with one undo. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { city, counted, instant, span } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { TimeField } from "@/parts/time-fields";
import { toastWith } from "@/parts/toasts";
import { Loaded, Skeleton } from "@/parts/views";
import { type Movable, type Move, nameOf } from "./model";
import { movePreview } from "./queries";

type Told = Schemas["MovePreview"];

/** Make moves, and take them back: one message carries the way back. */
export function useMove() {
  const client = useQueryClient();
  const told = () => {
    for (const topic of ["calendar", "rollout", "schedule", "freezes"] as const) changed(client, topic);
  };
  const send = (move: Move) => body(api.POST("/api/v1/calendar/moves", { body: move }));
  return useMutation({
    mutationFn: ({ move }: { move: Move; says: string }) => send(move),
    onSuccess: ({ undo }, { says }) => {
      told();
      const back = { kind: undo.kind, id: undo.id, change: undo.change };
      toastWith(says, "Undo", () => {
        send(back).then(told, (error: Error) => toastWith(`It was not undone: ${error.message}`, "Look", told));
      });
    },
  });
}

export function MoveDialog({
  what,
  first,
  words,
  onClose,
}: {
  what: Movable;
  first: Move;
  /** what the move does, where it is one that the calendar proposed */
  words?: string;
  onClose: () => void;
}) {
  const [move, setMove] = useState(first);
  const asked = useDebounced(move, 400);
  const preview = useQuery(movePreview(isNothing(asked) ? null : asked));
  const make = useMove();
  const isBehind = asked !== move;
  return (
    <Modal open onClose={onClose} title={words ? `${words}: ${nameOf(what)}` : `Move ${nameOf(what)}`}>
      <form
        className="space-y-4"
        noValidate
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate({ move, says: `${nameOf(what)} is moved` }, { onSuccess: onClose });
        }}
      >
        <Fields what={what} move={move} onChange={setMove} />
        <section aria-label="What it does" aria-live="polite">
          <h3 className="mb-1 font-sans font-semibold">What it does</h3>
          {isNothing(asked) ? (
            <p className="text-soft">Nothing is moved yet.</p>
          ) : isBehind ? (
            <Skeleton rows={2} />
          ) : (
            <Loaded of={preview} what="What it does" rows={2}>
              {(told) => <Consequences told={told} />}
            </Loaded>
          )}
        </section>
        <Problem error={make.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={isBehind || !preview.data || !!preview.error || make.isPending}>
            Keep it
          </Button>
        </div>
      </form>
    </Modal>
  );
}

const isNothing = (move: Move) => {
  const { start_by, end_by } = move.change;
  return move.kind === "freeze" && !start_by && !end_by;
};

function Fields({ what, move, onChange }: { what: Movable; move: Move; onChange: (move: Move) => void }) {
  const change = move.change;
  const set = (fields: Partial<Move["change"]>) => onChange({ ...move, change: { ...change, ...fields } });
  const { zone, now } = useClock();
  if (what.kind === "rollout") {
    if (change.window_start === undefined) return null; // another setting than its hours
    const field = (name: "window_start" | "window_end", label: string) => (
      <Labelled label={label}>
        <TimeField value={change[name] ?? null} onChange={(time) => time && set({ [name]: time })} />
      </Labelled>
    );
    return (
      <div className="flex items-end gap-4">
        {field("window_start", "Installs from")}
        {field("window_end", "until")}
        <p className="pb-1.5 text-soft">
          device time; now {what.of.window_start?.slice(0, 5) ?? "any hour"} to {what.of.window_end?.slice(0, 5) ?? ""}
        </p>
      </div>
    );
  }
  if (what.kind === "schedule")
    return (
      <div className="flex items-end gap-4">
        <Labelled label="Fires at">
          <TimeField value={change.time_of_day ?? null} onChange={(time) => time && set({ time_of_day: time })} />
        </Labelled>
        <p className="pb-1.5 text-soft">
          {what.of.clock === "device" ? "device time" : `by the clock of ${city(what.of.clock)}`}; now{" "}
          {what.of.time_of_day?.slice(0, 5)}
        </p>
      </div>
    );
  const moved = (at: string, by: number | undefined) =>
    instant(new Date(Date.parse(at) + (by ?? 0) * 60_000).toISOString(), zone, now);
  const hours = (name: "start_by" | "end_by", label: string, at: string) => (
    <Labelled label={label}>
      <span className="flex items-baseline gap-2">
        <input
          className="field w-24"
          type="number"
          step="any"
          value={Math.round(((change[name] ?? 0) / 60) * 100) / 100}
          onChange={(e) => set({ [name]: Math.round(Number(e.target.value) * 60) || 0 })}
        />
        <span className="whitespace-nowrap text-soft">h, to {moved(at, change[name])}</span>
      </span>
    </Labelled>
  );
  return (
    <div className="flex flex-wrap items-end gap-4">
      {hours("start_by", "Move its start by", what.of.starts_at)}
      {hours("end_by", "Move its end by", what.of.ends_at)}
    </div>
  );
}

function Consequences({ told }: { told: Told }) {
  const { now, zone } = useClock();
  const at = (moment: string | null) => (moment ? instant(moment, zone, now) : "not in sight");
  return (
    <div className="space-y-2">
      <p>It is about {counted(told.devices, "device")}.</p>
      {told.rollouts.map((r) => (
        <p key={r.id}>
          <strong>{r.name}</strong> is expected to end {at(r.before.median)} now, and {at(r.after.median)} after
          {shift(r.before.median, r.after.median)}
          {r.after.high && r.after.median && (
            <span className="text-soft"> (at the latest {at(r.after.high)}, in four futures of five)</span>
          )}
          .
        </p>
      ))}
      {told.firings.length > 0 && (
        <ul className="tabular-nums">
          {told.firings.slice(0, 8).map((f) => (
            <li key={f.zone}>
              {city(f.zone)}, {counted(f.devices, "device")}: next <s className="text-soft">{at(f.before)}</s>{" "}
              {at(f.after)}
            </li>
          ))}
          {told.firings.length > 8 && <li className="text-soft">and {told.firings.length - 8} more zones</li>}
        </ul>
      )}
      {told.new_conflicts.map((c) => (
        <p key={c.key}>
          <span aria-hidden className="text-brick">
            ▪{" "}
          </span>
          <strong>Would not fit any more:</strong> {c.words}
        </p>
      ))}
      {told.fixed_conflicts.map((c) => (
        <p key={c.key}>
          <span aria-hidden className="text-verdigris">
            ●{" "}
          </span>
          <strong>Would fit:</strong> {c.words}
        </p>
      ))}
      {told.new_conflicts.length + told.fixed_conflicts.length === 0 && (
        <p className="text-soft">What fits and what does not stays the same.</p>
      )}
    </div>
  );
}

/** By how much an expected end moves, in words. */
function shift(before: string | null, after: string | null): string {
  if (!before || !after) return "";
  const seconds = (Date.parse(after) - Date.parse(before)) / 1000;
  if (Math.abs(seconds) < 60) return ", the same";
  return seconds > 0 ? `, ${span(seconds)} later` : `, ${span(-seconds)} sooner`;
}
