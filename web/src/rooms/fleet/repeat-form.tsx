/** Letting an import repeat: where its file is, what its columns mean, and how much it may do unasked. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { AuthorizationField, EveryField } from "@/parts/source-fields";
import { Loaded } from "@/parts/views";
import { savedMappings } from "./queries";

type Draft = Schemas["RepeatedImportBodyRequest"];
const EVERY = [60, 360, 1440, 10_080];

export function RepeatForm({
  repeated,
  onClose,
}: {
  repeated: Schemas["RepeatedImportRow"] | null;
  onClose: () => void;
}) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const mappings = useQuery(savedMappings);
  const [draft, setDraft] = useState<Draft>({
    name: repeated?.name ?? "",
    url: repeated?.url ?? "",
    mapping: repeated?.mapping.id ?? 0,
    all_or_nothing: repeated?.all_or_nothing ?? true,
    read_every_minutes: repeated?.read_every_minutes ?? 1440,
    unasked: repeated?.unasked ?? 100,
  });
  const keep = useMutation({
    mutationFn: () =>
      repeated
        ? body(
            api.PUT("/api/v1/repeated-imports/{repeated_id}", {
              params: { path: { repeated_id: repeated.id } },
              body: draft,
            }),
          )
        : body(api.POST("/api/v1/repeated-imports", { body: draft })),
    onSuccess: (row) => {
      changed(client, "import");
      onClose();
      if (row.last_import) navigate({ to: "/import/$id", params: { id: String(row.last_import.id) } });
    },
  });
  const set = (fields: Partial<Draft>) => {
    keep.reset();
    setDraft({ ...draft, ...fields });
  };
  return (
    <Modal open wide onClose={onClose} title={repeated ? `Change the import “${repeated.name}”` : "Repeat an import"}>
      <Loaded
        of={mappings}
        what="The saved mappings"
        rows={3}
        empty={
          <p>
            No mapping is saved yet. Import such a file once by hand, and save what its columns mean there: a file that
            lacks one of them is refused later.
          </p>
        }
      >
        {(rows) => (
          <form
            className="space-y-3"
            noValidate
            onSubmit={(e) => {
              e.preventDefault();
              keep.mutate();
            }}
          >
            <p className="text-soft">
              The first file waits for you, as what you have read later does. What is read by itself is imported where
              no row is wrong, it is not too large, and nothing that runs would reach other devices by it.
            </p>
            <div className="grid grid-cols-3 gap-3 max-md:grid-cols-1">
              <Labelled label="Name">
                <input
                  className="field"
                  maxLength={80}
                  value={draft.name}
                  onChange={(e) => set({ name: e.target.value })}
                />
              </Labelled>
              <div className="col-span-2 max-md:col-span-1">
                <Labelled label="Address">
                  <input
                    className="field"
                    type="url"
                    maxLength={1000}
                    placeholder="https://…"
                    value={draft.url}
                    onChange={(e) => set({ url: e.target.value })}
                  />
                </Labelled>
              </div>
              <Labelled label="Its columns mean" hint="A file that lacks one of them is refused.">
                <select
                  className="field"
                  value={draft.mapping || ""}
                  onChange={(e) => set({ mapping: Number(e.target.value) })}
                >
                  <option value="">choose a saved mapping</option>
                  {rows.map((m) => (
                    <option key={m.id} value={m.id}>
                      {m.name}
                    </option>
                  ))}
                </select>
              </Labelled>
              <AuthorizationField
                value={draft.authorization}
                isKept={repeated?.has_authorization ?? false}
                onChange={(to) => set({ authorization: to })}
              />
              <EveryField
                choices={EVERY}
                minutes={draft.read_every_minutes ?? 1440}
                onChange={(to) => set({ read_every_minutes: to })}
              />
              <Labelled label="Unasked" hint="So many devices may a file make and change; more wait for somebody.">
                <input
                  className="field"
                  type="number"
                  min={0}
                  max={1_000_000}
                  value={draft.unasked}
                  onChange={(e) => set({ unasked: Number(e.target.value) })}
                />
              </Labelled>
              <label className="col-span-2 flex items-center gap-2 self-center max-md:col-span-1">
                <input
                  type="checkbox"
                  className="accent-[var(--verdigris)]"
                  checked={!draft.all_or_nothing}
                  onChange={(e) => set({ all_or_nothing: !e.target.checked })}
                />
                Import the good rows where others are wrong
              </label>
            </div>
            <Problem error={keep.error} />
            <div className="flex justify-end gap-2">
              <Button onClick={onClose}>Cancel</Button>
              <Button
                kind="main"
                type="submit"
                disabled={!draft.name.trim() || !draft.url.trim() || !draft.mapping || keep.isPending}
              >
                {keep.isPending ? "Reading…" : "Read it and see what it would do"}
              </Button>
            </div>
          </form>
        )}
      </Loaded>
    </Modal>
  );
}
