/** Whom a freeze holds: every device, or those of groups and sites. */
import { useQuery } from "@tanstack/react-query";
import { groups as groupsQuery, sites as sitesQuery } from "@/api/queries";
import { count } from "@/lib/format";
import { Picker } from "./controls";

export interface Holders {
  everywhere?: boolean;
  groups?: number[];
  sites?: number[];
}

export function HoldersFields({ value, onChange }: { value: Holders; onChange: (value: Holders) => void }) {
  const { data: groups } = useQuery(groupsQuery);
  const { data: sites } = useQuery(sitesQuery);
  return (
    <>
      <label className="flex min-h-[30px] items-center gap-2">
        <input
          type="checkbox"
          className="accent-[var(--verdigris)]"
          checked={value.everywhere ?? false}
          onChange={(e) => onChange({ ...value, everywhere: e.target.checked })}
        />
        Every device
      </label>
      {!value.everywhere && (
        <>
          <Picker
            label="Groups"
            options={(groups ?? []).map((g) => ({ id: g.id, name: g.name, note: count(g.member_count) }))}
            chosen={value.groups ?? []}
            onChange={(ids) => onChange({ ...value, groups: ids })}
          />
          <Picker
            label="Sites"
            options={(sites ?? []).map((s) => ({ id: s.id, name: s.name, note: count(s.devices) }))}
            chosen={value.sites ?? []}
            onChange={(ids) => onChange({ ...value, sites: ids })}
          />
        </>
      )}
    </>
  );
}

/** Whom it holds, in words. */
export function holdsWords(of: { everywhere: boolean; groups: { name: string }[]; sites: { name: string }[] }): string {
  return of.everywhere ? "every device" : [...of.groups, ...of.sites].map((x) => x.name).join(", ");
}
