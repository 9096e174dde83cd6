/** What saving a rule changes, and the button that says so; where something runs by the group, its numbers are
 * agreed to first. */
import { queryOptions, useQuery } from "@tanstack/react-query";
import type { Consequences } from "@/api/agreement";
import { api, body, type Schemas } from "@/api/client";
import { ConsequenceList } from "@/app/agreement-dialog";
import { Button, Problem } from "@/parts/controls";
import { count, counted } from "@/parts/format";
import { useDebounced } from "@/parts/use-debounced";

type Group = Schemas["GroupDetail"] | null;
type Preview = Schemas["RulePreview"] | undefined;

export function saveWords(group: Group, shown: Preview): string {
  if (!group) return shown ? `Save with ${counted(shown.count, "device")}` : "Save";
  if (!shown || (!shown.joins && !shown.leaves)) return "Save";
  return `Save: ${count(shown.joins ?? 0)} join, ${count(shown.leaves ?? 0)} leave`;
}

export function SaveRule({
  group,
  shown,
  disabled,
  onSave,
}: {
  group: Group;
  shown: Preview;
  disabled: boolean;
  onSave: () => void;
}) {
  // where something running is reached, the panel of consequences asks before anything is saved
  return (
    <Button kind="main" disabled={disabled} onClick={onSave}>
      {saveWords(group, shown)}
    </Button>
  );
}

/** What saving this rule for the group would set off, counted with the groups that name it; nothing is saved. */
const consequencesOf = (id: number, rule: string) =>
  queryOptions({
    queryKey: ["preview", "consequences", id, rule],
    queryFn: async () => {
      const told = await body(
        api.PATCH("/api/v1/groups/{group_id}", {
          params: { path: { group_id: id }, header: { "Herald-Dry-Run": true } },
          body: { rule },
        }),
      );
      return told as unknown as Consequences;
    },
    retry: false,
  });

/** What saving does, asked once typing has paused: it is counted by doing it and taking it back. */
export function Consequence({ group, shown, rule }: { group: Group; shown: Preview; rule: string }) {
  const settled = useDebounced(rule, 900);
  const changes = Boolean(shown && (shown.joins || shown.leaves));
  const told = useQuery({
    ...consequencesOf(group?.id ?? 0, settled),
    enabled: group !== null && changes && settled === rule,
  });
  if (!shown) return <p className="text-soft">The rule must be understood before anything can be saved.</p>;
  if (!group) return <p className="text-soft">A new group of {counted(shown.count, "device")}; nothing uses it yet.</p>;
  if (!changes) return <p className="text-soft">Nobody joins and nobody leaves.</p>;
  return (
    <div className="space-y-1.5">
      <p>
        <strong>{counted(shown.joins ?? 0, "device")}</strong> join, <strong>{count(shown.leaves ?? 0)}</strong> leave.
      </p>
      {told.error ? (
        <Problem error={told.error} />
      ) : !told.data || settled !== rule ? (
        <p className="text-soft">Counting what that sets off…</p>
      ) : told.data.uses.length === 0 ? (
        <p className="text-soft">Nothing running follows it.</p>
      ) : (
        <ConsequenceList consequences={told.data} />
      )}
    </div>
  );
}
