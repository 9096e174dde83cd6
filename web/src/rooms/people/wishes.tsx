/** How one is written to: at once, once a day or not at all; and one's quiet hours. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { Button, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { ownPreference } from "./queries";

type Preference = Schemas["PreferenceView"];
const MAIL: [Preference["mail"], string][] = [
  ["at-once", "by mail, at once"],
  ["daily", "in one mail a day, at"],
  ["never", "not by mail; it is in the program"],
];

export function Wishes() {
  const asked = useQuery(ownPreference);
  return (
    <Loaded of={asked} what="How you are written to" rows={4}>
      {(kept) => <Form kept={kept} />}
    </Loaded>
  );
}

function Form({ kept }: { kept: Preference }) {
  const client = useQueryClient();
  const [wanted, setWanted] = useState(kept);
  const set = (change: Partial<Preference>) => setWanted((was) => ({ ...was, ...change }));
  const { sends_mail, ...given } = wanted;
  const save = useMutation({
    mutationFn: () => body(api.PUT("/api/v1/own/preference", { body: given })),
    onSuccess: (now) => {
      client.setQueryData(ownPreference.queryKey, now);
      toast("It holds for what happens from now on.");
    },
  });
  const test = useMutation({
    mutationFn: () => body(api.POST("/api/v1/own/messages/test")),
    onSuccess: () => toast("A test message is on its way to you."),
  });
  const hour = (key: "daily_at" | "quiet_from" | "quiet_until", label: string) => (
    <input
      type="time"
      className="field"
      aria-label={label}
      value={wanted[key] ?? ""}
      onChange={(e) => e.target.value && set({ [key]: e.target.value })}
    />
  );
  const isQuiet = wanted.quiet_from !== null;
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      {!sends_mail && <p className="text-soft">This installation sends no mail; everything is in the program.</p>}
      <fieldset className="flex flex-col gap-1">
        <legend className="mb-1 text-soft">What is not urgent comes</legend>
        {MAIL.map(([key, words]) => (
          <span key={key} className="flex min-h-[30px] items-center gap-2">
            <label className="flex items-center gap-2">
              <input
                type="radio"
                name="mail"
                className="accent-[var(--verdigris)]"
                checked={wanted.mail === key}
                onChange={() => set({ mail: key })}
              />
              {words}
            </label>
            {key === "daily" && wanted.mail === "daily" && hour("daily_at", "Time of the daily mail")}
          </span>
        ))}
      </fieldset>
      <span className="flex min-h-[30px] flex-wrap items-center gap-2">
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="accent-[var(--verdigris)]"
            checked={isQuiet}
            onChange={(e) =>
              set(
                e.target.checked
                  ? { quiet_from: "22:00", quiet_until: "07:00" }
                  : { quiet_from: null, quiet_until: null },
              )
            }
          />
          quiet hours
        </label>
        {isQuiet && (
          <>
            from {hour("quiet_from", "Quiet from")} until {hour("quiet_until", "Quiet until")}
          </>
        )}
      </span>
      <p className="text-soft text-xs">By your clock. What is urgent comes at once in any case.</p>
      <Problem error={save.error ?? test.error} />
      <div className="flex gap-2">
        <Button type="submit" disabled={JSON.stringify(kept) === JSON.stringify(wanted) || save.isPending}>
          Save
        </Button>
        <Button kind="quiet" disabled={test.isPending} onClick={() => test.mutate()}>
          Send me a test
        </Button>
      </div>
    </form>
  );
}
