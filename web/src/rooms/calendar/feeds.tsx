/** Feeds of one's own: the calendar at a secret address, for other programs. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { city, instant } from "@/lib/format";
import { Button, Confirm, Labelled, Modal, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import type { Answer, RowKind } from "./model";
import { feeds as feedsQuery } from "./queries";

type Part = Schemas["FeedBodyRequest"]["parts"][number];
const PARTS: [Part, string][] = [
  ["windows", "hours of rollouts"],
  ["gates", "gates due"],
  ["firings", "firings of commands"],
  ["freezes", "freezes"],
];

export function Feeds({ answer, rows }: { answer: Answer; rows: RowKind }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const asked = useQuery(feedsQuery);
  const [isAdding, setAdding] = useState(false);
  const revoke = useMutation({
    mutationFn: (id: number) => api.DELETE("/api/v1/calendar-feeds/{feed_id}", { params: { path: { feed_id: id } } }),
    onSuccess: () => changed(client, "feeds"),
  });
  return (
    <section aria-labelledby="feeds">
      <h2 id="feeds" className="mb-1 text-[1.05rem]">
        Your feeds
      </h2>
      <Loaded
        of={asked}
        what="Your feeds"
        rows={1}
        empty={<p className="text-soft">Other programs can show this calendar, by a secret address of your own.</p>}
      >
        {(found) => (
          <ul>
            {found.map((f) => (
              <li key={f.id} className="flex items-baseline justify-between gap-3">
                <span className="truncate">
                  {f.name}{" "}
                  <span className="text-soft">
                    {f.last_read_at ? `read ${instant(f.last_read_at, zone, now)}` : "not read yet"}
                  </span>
                </span>
                <Confirm
                  trigger={<Button kind="quiet">Delete…</Button>}
                  title={`Delete the feed ${f.name}?`}
                  action="Delete it"
                  danger
                  onConfirm={() => revoke.mutate(f.id)}
                >
                  Its address answers nothing from now on, whoever has it. A new feed has another address.
                </Confirm>
              </li>
            ))}
          </ul>
        )}
      </Loaded>
      <Problem error={revoke.error} />
      <Button kind="quiet" onClick={() => setAdding(true)}>
        Make a feed…
      </Button>
      {isAdding && <NewFeed answer={answer} rows={rows} onClose={() => setAdding(false)} />}
    </section>
  );
}

function NewFeed({ answer, rows, onClose }: { answer: Answer; rows: RowKind; onClose: () => void }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [parts, setParts] = useState<Part[]>(PARTS.map(([part]) => part));
  const [keys, setKeys] = useState<string[]>([]);
  const make = useMutation({
    mutationFn: () => body(api.POST("/api/v1/calendar-feeds", { body: { name, parts, rows, keys } })),
    onSuccess: () => changed(client, "feeds"),
  });
  const address = make.data && new URL(make.data.path, window.location.origin).href;
  const toggled = <T,>(list: T[], one: T) => (list.includes(one) ? list.filter((x) => x !== one) : [...list, one]);
  const box = (label: string, isOn: boolean, onChange: () => void) => (
    <label key={label} className="flex min-h-[28px] items-center gap-2">
      <input type="checkbox" className="accent-[var(--verdigris)]" checked={isOn} onChange={onChange} />
      {label}
    </label>
  );
  if (address)
    return (
      <Modal open onClose={onClose} title={`The feed ${name}`}>
        <div className="space-y-3">
          <p>
            Whoever knows this address reads the calendar without signing in. It is shown only now; if it gets into
            wrong hands, delete the feed.
          </p>
          <input className="field w-full font-mono" readOnly aria-label="The address" value={address} />
          <div className="flex justify-end gap-2">
            <Button onClick={() => navigator.clipboard?.writeText(address).then(() => toast("Copied"))}>
              Copy the address
            </Button>
            <Button kind="main" onClick={onClose}>
              Close
            </Button>
          </div>
        </div>
      </Modal>
    );
  return (
    <Modal open onClose={onClose} title="Make a feed">
      <form
        className="space-y-3"
        noValidate
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <Labelled label="Name" hint="as “On my phone”">
          <input className="field" maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
        </Labelled>
        <fieldset>
          <legend className="font-semibold text-soft">It holds</legend>
          <div className="grid grid-cols-2">
            {PARTS.map(([part, words]) => box(words, parts.includes(part), () => setParts(toggled(parts, part))))}
          </div>
        </fieldset>
        <fieldset>
          <legend className="font-semibold text-soft">Of these rows; of all, where none is chosen</legend>
          <div className="grid max-h-48 grid-cols-2 overflow-auto">
            {answer.rows.map((r) =>
              box(rows === "zone" ? city(r.name) : r.name, keys.includes(r.key), () => setKeys(toggled(keys, r.key))),
            )}
          </div>
        </fieldset>
        <Problem error={make.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!name.trim() || parts.length === 0 || make.isPending}>
            Make it
          </Button>
        </div>
      </form>
    </Modal>
  );
}
