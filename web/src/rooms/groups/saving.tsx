/** What saving a rule changes, and the button that says so; where something runs by the group, its numbers are
 * agreed to first. */
import type { Schemas } from "@/api/client";
import { Button, Confirm } from "@/parts/controls";
import { count, counted } from "@/parts/format";

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
  const words = saveWords(group, shown);
  const following = group?.following ?? [];
  if (following.length === 0 || (!shown?.joins && !shown?.leaves))
    return (
      <Button kind="main" disabled={disabled} onClick={onSave}>
        {words}
      </Button>
    );
  return (
    <Confirm
      trigger={
        <Button kind="main" disabled={disabled}>
          {words}…
        </Button>
      }
      title={`${count(shown.joins ?? 0)} join and ${count(shown.leaves ?? 0)} leave what runs`}
      action={words}
      onConfirm={onSave}
    >
      <p className="mb-2">From the next firing on, this reaches the changed group:</p>
      <ul className="list-disc space-y-1 pl-4 text-ink">
        {following.map((u) => (
          <li key={u.kind + u.id}>{u.sentence}</li>
        ))}
      </ul>
    </Confirm>
  );
}

const EFFECT: Record<string, string> = {
  schedule: "fires for those who are in at each firing.",
  rollout: "its devices were taken at launch and do not change by this.",
  group: "is evaluated again at once.",
};

export function Consequence({ group, shown }: { group: Group; shown: Preview }) {
  if (!shown) return <p className="text-soft">Nothing can be saved until the rule can be understood.</p>;
  if (!group) return <p className="text-soft">A new group of {counted(shown.count, "device")}; nothing uses it yet.</p>;
  const joins = shown.joins ?? 0;
  const leaves = shown.leaves ?? 0;
  if (!joins && !leaves) return <p className="text-soft">Nobody joins and nobody leaves.</p>;
  return (
    <div className="space-y-1.5">
      <p>
        <strong>{counted(joins, "device")}</strong> join, <strong>{count(leaves)}</strong> leave.
      </p>
      {group.uses.map((u) => (
        <p key={u.kind + u.id}>
          {u.sentence}: {EFFECT[u.kind]}
        </p>
      ))}
      {group.following
        .filter((f) => !group.uses.some((u) => u.kind === f.kind && u.id === f.id))
        .map((f) => (
          <p key={`follows${f.kind}${f.id}`}>{f.sentence} follows by way of other rules.</p>
        ))}
      {group.uses.length === 0 && <p className="text-soft">Nothing uses this group.</p>}
    </div>
  );
}
