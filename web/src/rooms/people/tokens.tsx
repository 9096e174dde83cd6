/** One's own API tokens: made with a name and an end, shown once, revoked in one press. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { DateTime } from "luxon";
import { useState } from "react";
import { api, body } from "@/api/client";
import { useClock } from "@/lib/clock";
import { relative } from "@/lib/format";
import { Button, Labelled, Problem } from "@/parts/controls";
import { ShownOnce } from "@/parts/shown-once";
import { Loaded } from "@/parts/views";
import { type Limits, LimitsField, type LimitWords } from "./limits";
import { ownTokens } from "./queries";

const ENDS: [string, number | null][] = [
  ["after 7 days", 7],
  ["after 90 days", 90],
  ["after a year", 365],
  ["not at all", null],
];

const FOR_A_TOKEN: LimitWords = {
  legend: "It opens",
  everything: "all that you see",
  nothing: "Nothing is chosen: it would open no device at all.",
  reached: (devices, groups) => `It opens ${devices} in ${groups}, as they are now and will be.`,
};

export function Tokens() {
  const client = useQueryClient();
  const { now } = useClock();
  const asked = useQuery(ownTokens);
  const again = () => client.invalidateQueries({ queryKey: ownTokens.queryKey });
  const [name, setName] = useState("");
  const [days, setDays] = useState<number | null>(90);
  const [readsOnly, setReadsOnly] = useState(true);
  const [limits, setLimits] = useState<Limits>(null);
  const make = useMutation({
    mutationFn: () => body(api.POST("/api/v1/tokens", { body: { name, days, reads_only: readsOnly, limits } })),
    onSuccess: () => {
      setName("");
      setLimits(null);
      again();
    },
  });
  const revoke = useMutation({
    mutationFn: (id: number) => body(api.DELETE("/api/v1/tokens/{token_id}", { params: { path: { token_id: id } } })),
    onSettled: again,
  });
  return (
    <>
      <p className="text-soft">
        A script that shows a token may do what you may, or less. It opens neither this page nor another token, and the
        record says what was done by it.
      </p>
      <Loaded of={asked} what="Your tokens" rows={2}>
        {(rows) => (
          <ul className="my-2">
            {rows.map((t) => (
              <li key={t.id} className="flex items-center gap-3 border-rule border-b py-1.5">
                <span className="min-w-0 flex-1">
                  <strong>{t.name}</strong>{" "}
                  <span className="text-soft">
                    {t.reads_only ? "only reads" : "may what you may"}
                    {t.limits && `, for ${t.limits} only`}
                    <br />
                    made {day(t.created_at)}, {t.expires_at ? `ends ${day(t.expires_at)}` : "does not end"},{" "}
                    {t.used_at ? `used ${relative(t.used_at, now)}` : "never used"}
                  </span>
                </span>
                <Button
                  kind="quiet"
                  className="text-brick!"
                  aria-label={`Revoke ${t.name}`}
                  disabled={revoke.isPending}
                  onClick={() => revoke.mutate(t.id)}
                >
                  Revoke
                </Button>
              </li>
            ))}
            {rows.length === 0 && <li className="text-soft">You have none.</li>}
          </ul>
        )}
      </Loaded>
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <Labelled label="What a new one is for">
          <input
            className="field"
            required
            maxLength={80}
            placeholder="Nightly report"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </Labelled>
        <Labelled label="It ends">
          <select
            className="field"
            value={String(days)}
            onChange={(e) => setDays(e.target.value === "null" ? null : Number(e.target.value))}
          >
            {ENDS.map(([words, n]) => (
              <option key={words} value={String(n)}>
                {words}
              </option>
            ))}
          </select>
        </Labelled>
        <Labelled label="It may">
          <select
            className="field"
            value={readsOnly ? "read" : "all"}
            onChange={(e) => setReadsOnly(e.target.value === "read")}
          >
            <option value="read">only read</option>
            <option value="all">do what I may</option>
          </select>
        </Labelled>
        <div className="w-full">
          <LimitsField value={limits} words={FOR_A_TOKEN} onChange={setLimits} />
        </div>
        <Button type="submit" disabled={!name.trim() || make.isPending}>
          Make a token
        </Button>
      </form>
      <Problem error={make.error ?? revoke.error} />
      {make.data && (
        <ShownOnce title="Your new token" secret={make.data.token} onClose={() => make.reset()}>
          Copy it now: it is stored hashed and is not shown again.
        </ShownOnce>
      )}
    </>
  );
}

/** Tokens live in real time, also where the demo's time passes faster. */
function day(at: string): string {
  return DateTime.fromISO(at).toFormat("d LLL yyyy");
}
