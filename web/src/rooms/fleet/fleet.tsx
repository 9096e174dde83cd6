/** Fleet: a rule line on top, value counts at the side, a grid, and the devices with what can be done to them. */
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { type ReactNode, useEffect, useState } from "react";
import { ApiError, api, body } from "@/api/client";
import { fields as fieldsQuery } from "@/api/queries";
import { useMay } from "@/api/use-may";
import { count, counted } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { useDebounced } from "@/lib/use-debounced";
import { useSelection } from "@/lib/use-selection";
import { Button } from "@/parts/controls";
import { DeviceTable } from "@/parts/device-table";
import { Exports } from "@/parts/list-parts";
import { NoDevices } from "@/parts/no-devices";
import { RuleEditor } from "@/parts/rule-editor";
import { type Answer, Inline, Loaded } from "@/parts/views";
import { AddDevice } from "./add-device";
import type { FleetAddress } from "./address";
import { AdmissionsLink } from "./admissions";
import { DeviceActions } from "./device-actions";
import { EditPanel } from "./edit-panel";
import { Values } from "./filters";
import { Grid } from "./grid";
import { Columns, exportAddress } from "./list-tools";
import { byName } from "./queries";
import { both, isNarrowed, narrowed, widened, wordsRule } from "./rule-joins";
import { SavedViews } from "./saved-views";

const fleetRoute = getRouteApi("/fleet");

const SIDE_FIELDS = ["model", "firmware", "site", "uplink", "tag", "power", "presence"];

export function Fleet() {
  const address = fleetRoute.useSearch();
  const navigate = useNavigate();
  const [rule, setRule] = useState(address.rule ?? "");
  const [words, setWords] = useState(address.q ?? "");
  const settled = useDebounced(rule, 250);
  const settledWords = useDebounced(words, 250);
  const go = (change: Partial<FleetAddress>) =>
    navigate({ to: "/fleet", search: (old: FleetAddress) => ({ ...old, ...change }), replace: true });
  useEffect(() => setRule(address.rule ?? ""), [address.rule]);
  useEffect(() => setWords(address.q ?? ""), [address.q]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: only what was typed moves the address
  useEffect(() => {
    if (settled !== (address.rule ?? "") || settledWords !== (address.q ?? ""))
      go({ rule: settled || undefined, q: settledWords || undefined });
  }, [settled, settledWords]);

  const among = { rule: address.rule, q: address.q };
  const columns = address.columns?.split(",") ?? [];
  const order = address.order ?? "name";
  const devices = useInfiniteQuery({
    queryKey: ["fleet", "devices", among, order, address.columns],
    queryFn: ({ pageParam }) =>
      body(
        api.GET("/api/v1/devices", {
          params: { query: { ...among, order, columns: address.columns, limit: 200, cursor: pageParam } },
        }),
      ),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: (before) => before,
    retry: false,
    refetchInterval: 10_000,
  });
  const problems = devices.error instanceof ApiError ? devices.error.errors.filter((e) => e.line) : [];
  // of the answer that is shown; unknown while none has come, or while it is another question's
  const total = devices.isPlaceholderData || devices.error ? undefined : devices.data?.pages[0]?.count;
  const [row, column] = (address.grid ?? "").split(",");
  const selection = useSelection();
  const everything = both(address.rule ?? "", wordsRule(address.q ?? "")) || "everything";
  const pick = (field: string, value: string) =>
    setRule(isNarrowed(rule, field, value) ? widened(rule, field, value) : narrowed(rule, field, value));
  usePageTitle("Fleet");
  const mayOperate = useMay("operate-all");
  const fields = useQuery(fieldsQuery);
  // some of them are reported by devices, and are fields from then on
  const beside = SIDE_FIELDS.filter((f) => !fields.data || fields.data.some((known) => known.key === f));
  return (
    <div
      className={`grid h-full ${selection.editing ? "grid-cols-[212px_1fr_284px] max-lg:grid-cols-[1fr_270px]" : "grid-cols-[212px_1fr] max-lg:grid-cols-1"}`}
    >
      <aside className="overflow-auto border-rule border-r px-4 py-3 max-lg:hidden" aria-label="Filters">
        <h2 className="mb-2 text-[1.05rem]">Filters</h2>
        {beside.map((f) => (
          <Values key={f} field={f} among={among} isChosen={(v) => isNarrowed(rule, f, v)} onPick={(v) => pick(f, v)} />
        ))}
        <SavedViews address={address} onOpen={(kept) => navigate({ to: "/fleet", search: kept })} />
      </aside>
      <div className="flex min-h-0 min-w-0 flex-col gap-2.5 px-4 py-3">
        <div className="flex items-baseline gap-4">
          <h1 className="text-2xl">Fleet</h1>
          <span className="ml-auto" />
          <AdmissionsLink />
          {mayOperate && (
            <>
              <Link to="/import/$id" params={{ id: "new" }} className="slot font-semibold">
                Import
              </Link>
              <AddDevice />
            </>
          )}
        </div>
        <div className="grid grid-cols-[1fr_190px] items-start gap-2">
          <RuleEditor
            label="Rule"
            value={rule}
            onChange={setRule}
            problems={problems}
            hint="All devices. Type a rule to narrow, for example: family = Sill and firmware < 5.2.0"
          />
          <input
            className="field min-h-[44px]!"
            aria-label="Quick words"
            placeholder="name, id, serial, site…"
            value={words}
            onChange={(e) => setWords(e.target.value)}
          />
        </div>
        {row && column && (
          <Grid
            row={row}
            column={column}
            among={among}
            onFields={(r, c) => go({ grid: `${r},${c}` })}
            onPick={({ row: r, column: c }) => {
              const narrowedRow = r === undefined ? rule : narrowed(rule, row, r);
              setRule(c === undefined ? narrowedRow : narrowed(narrowedRow, column, c));
            }}
          />
        )}
        <Bar
          matched={among.rule || among.q ? "match" : "in the fleet"}
          found={devices}
          total={total}
          selection={selection}
          everything={everything}
        >
          <Button kind="quiet" onClick={() => go({ grid: row ? undefined : "site,firmware" })}>
            {row ? "Hide the grid" : "Grid"}
          </Button>
          <Columns chosen={columns} onChange={(c) => go({ columns: c.join(",") || undefined })} />
          <Exports address={(as) => exportAddress(among, order, columns, as)} />
        </Bar>
        {problems.length === 0 ? (
          <Loaded
            of={devices}
            what="The devices"
            rows={14}
            className="min-h-0 flex-1"
            isEmpty={(found) => found.pages[0]?.count === 0 && !among.rule && !among.q}
            empty={<NoDevices />}
          >
            {(found) => (
              <DeviceTable
                label="Devices"
                rows={found.pages.flatMap((p) => p.devices)}
                extra={columns}
                selection={mayOperate ? selection : undefined}
                ordering={{ order, change: (to) => go({ order: to === "name" ? undefined : to }) }}
                onEnd={() => devices.hasNextPage && !devices.isFetchingNextPage && devices.fetchNextPage()}
                empty="No device matches."
              />
            )}
          </Loaded>
        ) : (
          <p className="text-soft">Correct the rule to see the devices that it matches.</p>
        )}
      </div>
      {selection.editing && (
        <aside className="overflow-auto border-rule border-l bg-side px-4 py-3" aria-label="Edit devices">
          <h2 className="mb-2 text-[1.05rem]">
            Edit{" "}
            {selection.editing === "all"
              ? `all ${total === undefined ? "…" : counted(total, "device")} that match`
              : counted(selection.chosen.size, "device")}
          </h2>
          <EditPanel
            target={
              selection.editing === "all"
                ? { devices: [], rule: everything }
                : { devices: [...selection.chosen.values()].map(byName), rule: "" }
            }
            onDone={selection.close}
          />
        </aside>
      )}
    </div>
  );
}

type Found = Answer<{ pages: { count: number }[] }>;

/** The line above the table: always of one height, so that no row moves under the pointer as the first is ticked. */
function Bar({
  found,
  matched,
  total,
  selection,
  everything,
  children,
}: {
  found: Found;
  matched: string;
  total: number | undefined;
  selection: ReturnType<typeof useSelection>;
  everything: string;
  children: ReactNode;
}) {
  const mayOperate = useMay("operate-all");
  const chosen = selection.chosen.size;
  return (
    <div className="flex h-[34px] shrink-0 items-center gap-3 whitespace-nowrap">
      <p aria-live="polite" className="mr-auto truncate">
        <Inline of={found}>
          {(all) => (
            <>
              <strong>{count(all.pages[0]?.count ?? 0)}</strong> devices {matched}
            </>
          )}
        </Inline>
        {chosen > 0 && ` · ${count(chosen)} selected`}
      </p>
      {chosen > 0 ? (
        <>
          <Button kind="quiet" onClick={selection.clear}>
            Clear selection
          </Button>
          <DeviceActions
            devices={[...selection.chosen.values()]}
            label={`Actions for ${count(chosen)}`}
            onDone={selection.clear}
          />
          {mayOperate && (
            <Button kind="main" onClick={() => selection.edit("chosen")}>
              Edit {count(chosen)} selected…
            </Button>
          )}
        </>
      ) : (
        <>
          {mayOperate && (
            <>
              <Button kind="quiet" disabled={!total} onClick={() => selection.edit("all")}>
                Edit all {total === undefined ? "" : count(total)}…
              </Button>
              {!found.error && (
                <Link
                  to="/groups/$id"
                  params={{ id: "new" }}
                  search={{ rule: everything }}
                  className="slot font-semibold"
                >
                  New group from these
                </Link>
              )}
            </>
          )}
          {children}
        </>
      )}
    </div>
  );
}
