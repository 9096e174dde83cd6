/** What saving a rule changes, and the button that says so; where something runs by the group, its numbers are
 * agreed to first. */
import { queryOptions, useQuery } from "@tanstack/react-query";
import type { Consequences } from "@/api/agreement";
import { api, body, type Schemas } from "@/api/client";
import { count, counted } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { ConsequenceList } from "@/parts/consequence-list";
import { Button, Problem } from "@/parts/controls";
import { Skeleton } from "@/parts/views";

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
/** Where the rule in the editor stands: nothing written, not understood, not counted for want of the server, being
 * counted, or counted as it stands. */
export type RuleState = "blank" | "refused" | "failed" | "counting" | "counted";

export function SaveConsequences({
  group,
  shown,
  state,
  rule,
}: {
  group: Group;
  shown: Preview;
  state: RuleState;
  rule: string;
}) {
  const settled = useDebounced(rule, 900);
  const changes = Boolean(shown && (shown.joins || shown.leaves));
  const told = useQuery({
    ...consequencesOf(group?.id ?? 0, settled),
    enabled: group !== null && changes && settled === rule,
  });
  if (state === "blank") return <p className="text-soft">Write a rule first.</p>;
  if (state === "refused") return <p className="text-soft">The rule must be correct before it can be saved.</p>;
  if (state === "failed") return <p className="text-soft">Not known: the devices that match could not be counted.</p>;
  if (!shown) return <Skeleton rows={2} />;
  if (!group) return <p className="text-soft">A new group of {counted(shown.count, "device")}; nothing uses it yet.</p>;
  if (!changes) return <p className="text-soft">No device joins and none leaves.</p>;
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
