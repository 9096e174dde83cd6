/** Putting devices into a group picked by hand: found by a search, pasted, or from a file; and taking them out. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { ApiError, api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { count, counted } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Button, Problem } from "@/parts/controls";
import { Failed, Skeleton } from "@/parts/views";
import { idsIn } from "./ids-in";

export function useMemberChange(groupId: number, onDone: () => void) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (devices: { add: string[]; remove: string[]; move?: boolean }) =>
      body(api.POST("/api/v1/groups/{group_id}/members", { params: { path: { group_id: groupId } }, body: devices })),
    onSuccess: (difference) => {
      changed(client, "group");
      onDone();
      toast(`${counted(difference.joined, "device")} added, ${difference.left} removed`);
    },
  });
}

export function AddDevices({ group }: { group: Schemas["GroupDetail"] }) {
  const [words, setWords] = useState("");
  const change = useMemberChange(group.id, () => setWords(""));
  const names = idsIn(words);
  const refusal = change.error instanceof ApiError ? change.error.body : {};
  const unknown = Array.isArray(refusal.unknown) ? (refusal.unknown as string[]) : [];
  const known = names.filter((n) => !unknown.includes(n));
  return (
    <>
      <h2 className="mb-1 text-[1.05rem]">Add or remove devices</h2>
      <Search onPick={(name) => setWords((old) => [...idsIn(old).filter((n) => n !== name), name].join("\n"))} />
      <textarea
        className="field mt-2 h-28 w-full font-mono"
        aria-label="Names or UIDs of devices"
        placeholder={"sill-0417\nsill-0420"}
        value={words}
        onChange={(e) => setWords(e.target.value)}
      />
      <p className="mb-2 text-soft">
        Names or UIDs, one a line, or{" "}
        <label className="slot cursor-pointer focus-within:outline-2 focus-within:outline-saffron">
          from a file
          <input
            type="file"
            aria-label="A file of names or UIDs"
            className="sr-only"
            accept=".txt,.csv,.tsv"
            onChange={async (e) => {
              const file = e.target.files?.[0];
              e.target.value = "";
              if (file) setWords(idsIn(await file.text()).join("\n"));
            }}
          />
        </label>
        .
      </p>
      <div className="flex gap-2">
        <Button disabled={!names.length || change.isPending} onClick={() => change.mutate({ add: names, remove: [] })}>
          Add {names.length ? count(names.length) : ""}
        </Button>
        <Button disabled={!names.length || change.isPending} onClick={() => change.mutate({ add: [], remove: names })}>
          Remove {names.length ? count(names.length) : ""}
        </Button>
      </div>
      {group.following.length > 0 && (
        <p className="mt-2 text-saffron-ink">
          Followed by {group.following.map((u) => u.sentence).join("; ")}: each goes by who is in at the time.
        </p>
      )}
      <div className="mt-2">
        <Problem error={change.error} />
        {unknown.length > 0 && known.length > 0 && (
          <Button className="mt-2" onClick={() => setWords(known.join("\n"))}>
            Leave out {counted(unknown.length, "unknown one")}
          </Button>
        )}
        {Array.isArray(refusal.moves) && (
          <Button className="mt-2" onClick={() => change.mutate({ add: names, remove: [], move: true })}>
            Move {names.length === 1 ? "it" : "them"} here
          </Button>
        )}
      </div>
    </>
  );
}

/** Devices by quick words; each press takes one into the list below. */
function Search({ onPick }: { onPick: (name: string) => void }) {
  const [words, setWords] = useState("");
  const settled = useDebounced(words.trim(), 200);
  const found = useQuery({
    queryKey: ["fleet", "devices", "search", settled],
    queryFn: () => body(api.GET("/api/v1/devices", { params: { query: { q: settled, limit: 8 } } })),
    enabled: settled !== "",
    retry: false,
  });
  return (
    <>
      <input
        className="field w-full"
        aria-label="Find devices to add"
        placeholder="Find by name, UID, serial, model, site…"
        value={words}
        onChange={(e) => setWords(e.target.value)}
      />
      {settled && found.isPending && !found.error && <Skeleton rows={2} />}
      {settled && found.error && <Failed what="The devices" of={found} />}
      {settled && found.data && (
        <ul className="mt-1 rounded-sm border border-rule bg-card">
          {found.data.devices.map((d) => (
            <li key={d.id}>
              <button
                type="button"
                className="flex min-h-[28px] w-full items-baseline gap-2 px-2 text-left hover:bg-side"
                onClick={() => onPick(d.name)}
              >
                <strong className="font-semibold">{d.name}</strong>
                <span className="truncate text-soft">
                  {d.model} · {d.site}
                </span>
                <span aria-hidden className="ml-auto text-verdigris">
                  +
                </span>
              </button>
            </li>
          ))}
          <li className="px-2 text-soft text-xs">
            {found.data.count === 0
              ? "No device matches."
              : found.data.count > 8
                ? `${count(found.data.count)} match; say more to see fewer.`
                : ""}
          </li>
        </ul>
      )}
    </>
  );
}
