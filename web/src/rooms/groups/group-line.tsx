/** The line under a group's name: how it gets its members, where it is, what it is kept to, what uses it. */
import type { Schemas } from "@/api/client";
import { KeptByFile } from "@/parts/kept-by-file";

export function GroupLine({
  group,
  how = "By rule",
}: {
  group: Schemas["GroupDetail"];
  /** how it gets its members, where that is known by now */
  how?: string;
}) {
  const parts = [
    how,
    group.folder && `in ${group.folder}`,
    group.family && `one of the family “${group.family}”`,
    group.only_model && `kept to ${group.only_model}`,
    group.kind === "rule" && group.uses.length > 0 && `used by ${group.uses.map((u) => u.sentence).join(", ")}`,
    group.note,
  ].filter(Boolean);
  return (
    <>
      <p className="text-soft">
        {parts.join(" · ")}
        {group.of_other_models > 0 && (
          <strong className="text-brick"> · {group.of_other_models} are of other models by now</strong>
        )}
      </p>
      <KeptByFile kind="groups" name={group.name} />
    </>
  );
}
