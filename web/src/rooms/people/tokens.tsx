/** One's own API tokens: made with a name and an end, shown once, revoked in one press. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { DateTime } from "luxon";
import { useState } from "react";
import { api, body } from "@/api/client";
import { Button, Labelled, Problem } from "@/parts/controls";
import { ShownOnce } from "@/parts/shown-once";
import { Loaded } from "@/parts/views";
import { ownTokens } from "./queries";

const ENDS: [string, number | null][] = [
  ["after 7 days", 7],
  ["after 90 days", 90],
  ["after a year", 365],
  ["not at all", null],
];

export function Tokens() {
  const client = useQueryClient();
  const asked = useQuery(ownTokens);
  const again = () => client.invalidateQueries({ queryKey: ownTokens.queryKey });
  const [name, setName] = useState("");
  const [days, setDays] = useState<number | null>(90);
  const make = useMutation({
    mutationFn: () => body(api.POST("/api/v1/tokens", { body: { name, days } })),
    onSuccess: () => {
      setName("");
      again();
    },
  });
  const revoke = useMutation({
    mutationFn: (id: string) => body(api.DELETE("/api/v1/tokens/{token_id}", { params: { path: { token_id: id } } })),
    onSettled: again,
  });
  return (
    <>
      <p className="text-soft">A script that shows a token may do what you may.</p>
      <Loaded of={asked} what="Your tokens" rows={2}>
        {(rows) => (
          <ul className="my-2">
            {rows.map((t) => (
              <li key={t.id} className="flex items-center gap-3 border-rule border-b py-1.5">
                <span className="min-w-0 flex-1">
                  <strong>{t.name || "without a name"}</strong>
                  <br />
                  <span className="text-soft">
                    made {day(t.created_at)}, {t.expires_at ? `ends ${day(t.expires_at)}` : "does not end"}
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
