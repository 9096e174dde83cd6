/** Views of the fleet saved under a name: rule, words, columns, order and grid. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body } from "@/api/client";
import { changed } from "@/api/topics";
import { Button, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import type { FleetAddress } from "./address";
import { savedViews as viewsQuery } from "./queries";

export function SavedViews({ address, onOpen }: { address: FleetAddress; onOpen: (address: FleetAddress) => void }) {
  const client = useQueryClient();
  const saved = useQuery(viewsQuery);
  const [name, setName] = useState("");
  const again = () => changed(client, "views");
  const kept = Object.fromEntries(Object.entries(address).filter(([, v]) => v !== undefined)) as Record<string, string>;
  const keep = useMutation({
    mutationFn: () => body(api.POST("/api/v1/saved-views", { body: { name: name.trim(), address: kept } })),
    onSuccess: () => {
      setName("");
      again();
    },
  });
  const forget = useMutation({
    mutationFn: (id: number) =>
      body(api.DELETE("/api/v1/saved-views/{view_id}", { params: { path: { view_id: id } } })),
    onSuccess: again,
  });
  const something = Object.keys(kept).length > 0;
  if (saved.data?.length === 0 && !something) return null;
  return (
    <section className="border-rule border-t pt-3">
      <h3 className="mb-1 font-sans font-semibold text-soft">Saved views</h3>
      <Loaded of={saved} what="The saved views" rows={1}>
        {(data) => (
          <ul>
            {data.map((v) => (
              <li key={v.id} className="flex items-center justify-between">
                <Button kind="quiet" className="truncate text-left" onClick={() => onOpen(v.address as FleetAddress)}>
                  {v.name}
                </Button>
                <button
                  type="button"
                  className="px-1 text-soft hover:text-brick"
                  aria-label={`Delete the view ${v.name}`}
                  onClick={() => forget.mutate(v.id)}
                >
                  ✕
                </button>
              </li>
            ))}
          </ul>
        )}
      </Loaded>
      {something && (
        <form
          className="mt-1 flex gap-1"
          onSubmit={(e) => {
            e.preventDefault();
            if (name.trim()) keep.mutate();
          }}
        >
          <input
            className="field min-w-0 flex-1"
            aria-label="Name for this view"
            placeholder="Save this view as…"
            value={name}
            maxLength={60}
            onChange={(e) => setName(e.target.value)}
          />
          {name.trim() && (
            <Button type="submit" kind="quiet">
              Save
            </Button>
          )}
        </form>
      )}
      <Problem error={keep.error} />
    </section>
  );
}
