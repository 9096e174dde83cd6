/** Says of a thing that a file says how it is to be: which, as of when, and whether it was changed by hand since. */
import { useQuery } from "@tanstack/react-query";
import { api, body } from "@/api/client";
import { useLimits } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { instant } from "@/lib/format";

export type KindInFiles = "groups" | "freezes" | "ring-plans" | "command-templates" | "attributes" | "sites" | "models";

export function KeptByFile({ kind, name }: { kind: KindInFiles; name: string }) {
  const { now, zone } = useClock();
  const isLimited = useLimits() !== null;
  // nothing is said before it is known, and nothing of what stands in no file
  const { data } = useQuery({
    queryKey: ["group", "origin", kind, name],
    queryFn: () => body(api.GET("/api/v1/configuration/origin", { params: { query: { kind, name } } })),
    enabled: !isLimited,
  });
  const origin = data?.origin;
  if (!origin) return null;
  return (
    <p className="text-soft">
      Kept as a file: {origin.file || "unnamed"}
      {origin.revision && ` at ${origin.revision}`}, applied {instant(origin.applied_at, zone, now)}
      {origin.applied_by && ` by ${origin.applied_by}`}
      {origin.changed_since && <strong className="text-brick"> · changed by hand since</strong>}
    </p>
  );
}
