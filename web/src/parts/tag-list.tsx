/** Tags of a device, each with the mark of its colour slot; the word itself says everything. */
import { useQuery } from "@tanstack/react-query";
import { tags as tagsQuery } from "@/api/queries";

export const SLOTS = 8;

export function TagMark({ slot }: { slot: number }) {
  if (slot === 0) return null;
  return (
    <span
      aria-hidden
      className="mr-1 inline-block size-[8px] rounded-[2px]"
      style={{ background: `var(--tag-${slot})` }}
    />
  );
}

export function TagList({ slugs, none = "" }: { slugs: string[]; none?: string }) {
  const { data } = useQuery(tagsQuery);
  if (slugs.length === 0) return <>{none}</>;
  return (
    <>
      {slugs.map((slug, i) => (
        <span key={slug} className="whitespace-nowrap" title={data?.find((t) => t.slug === slug)?.note || undefined}>
          <TagMark slot={data?.find((t) => t.slug === slug)?.colour ?? 0} />
          {slug}
          {i < slugs.length - 1 && ", "}
        </span>
      ))}
    </>
  );
}
