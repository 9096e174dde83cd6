/** The devices that a rule matches, page by page, with quick words to filter them; of a group they are its members. */
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { count, counted } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { DeviceTable } from "@/parts/device-table";
import type { Selection } from "@/parts/table";
import { Inline, Loaded } from "@/parts/views";

export function MemberList({
  rule,
  label,
  marks,
  selection,
  empty,
  children,
}: {
  rule: string;
  label: string;
  marks?: Map<number, ReactNode>;
  selection?: Selection<Schemas["DeviceRow"]>;
  empty: string;
  /** beside the filter */
  children?: ReactNode;
}) {
  const [words, setWords] = useState("");
  const settled = useDebounced(words.trim(), 250);
  const [order, setOrder] = useState("name");
  const found = useInfiniteQuery({
    queryKey: ["group", "list", "members", rule, settled, order],
    queryFn: ({ pageParam }) =>
      body(
        api.GET("/api/v1/devices", {
          params: { query: { rule, q: settled || undefined, order, limit: 200, cursor: pageParam } },
        }),
      ),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: (before) => before,
    retry: false,
  });
  return (
    <>
      <div className="flex items-center gap-3">
        <input
          className="field w-64"
          aria-label="Filter the devices by words"
          placeholder="Filter: name, UID, model, site…"
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
        {settled && (
          <span className="text-soft" aria-live="polite">
            <Inline of={found}>{(all) => `${counted(all.pages[0]?.count ?? 0, "device")} of these`}</Inline>
          </span>
        )}
        {children}
        <Link to="/fleet" search={{ rule, q: settled || undefined }} className="slot ml-auto">
          Filter by rule in Fleet
        </Link>
      </div>
      <Loaded of={found} what="The devices" rows={8} className="min-h-0 flex-1">
        {(all) => (
          <DeviceTable
            label={label}
            rows={all.pages.flatMap((p) => p.devices)}
            marks={marks}
            selection={selection}
            ordering={{ order, change: setOrder }}
            onEnd={() => found.hasNextPage && !found.isFetchingNextPage && found.fetchNextPage()}
            empty={settled ? `No device of these matches “${settled}”.` : empty}
          />
        )}
      </Loaded>
      {found.data && found.hasNextPage && (
        <p className="sr-only">
          {count(found.data.pages.reduce((n, p) => n + p.devices.length, 0))} of{" "}
          {count(found.data.pages[0]?.count ?? 0)} shown; scroll for more.
        </p>
      )}
    </>
  );
}
