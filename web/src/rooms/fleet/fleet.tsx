/** Fleet: a rule line on top, value counts at the side, a grid, and the devices with what can be done to them. */
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { ApiError, api, body } from "@/api/client";
import { byName } from "@/api/queries";
import { type FleetAddress, fleetRoute } from "@/app/router";
import { Button, Problem } from "@/parts/controls";
import { DeviceTable } from "@/parts/device-table";
import { count, counted } from "@/parts/format";
import { RuleEditor } from "@/parts/rule-editor";
import { useDebounced } from "@/parts/use-debounced";
import { useSelection } from "@/parts/use-selection";
import { AddDevice } from "./add-device";
import { AdmissionsLink } from "./admissions";
import { DeviceActions } from "./device-actions";
import { EditPanel } from "./edit-panel";
import { Grid } from "./grid";
import { KeptViews } from "./kept-views";
import { Columns, Exports } from "./list-tools";
import { both, narrowed, wordsRule } from "./narrow";
import { Values } from "./values";

const SIDE_FIELDS = ["model", "site", "uplink", "tag", "power", "presence"];

export function Fleet() {
  const address = fleetRoute.useSearch();
  const navigate = useNavigate();
  const [rule, setRule] = useState(address.rule ?? "");
  const [words, setWords] = useState(address.words ?? "");
  const settled = useDebounced(rule, 250);
  const settledWords = useDebounced(words, 250);
  const go = (change: Partial<FleetAddress>) =>
    navigate({ to: "/fleet", search: (old: FleetAddress) => ({ ...old, ...change }), replace: true });
  useEffect(() => setRule(address.rule ?? ""), [address.rule]);
  useEffect(() => setWords(address.words ?? ""), [address.words]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: only what was typed moves the address
  useEffect(() => {
    if (settled !== (address.rule ?? "") || settledWords !== (address.words ?? ""))
      go({ rule: settled || undefined, words: settledWords || undefined });
  }, [settled, settledWords]);

  const among = { rule: address.rule, words: address.words };
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
  const rows = devices.data?.pages.flatMap((p) => p.devices) ?? [];
  const problems = devices.error instanceof ApiError ? devices.error.errors.filter((e) => e.line) : [];
  const total = devices.data?.pages[0]?.count ?? 0;
  const [row, column] = (address.grid ?? "").split(",");
  const selection = useSelection();
  const everything = both(address.rule ?? "", wordsRule(address.words ?? "")) || "everything";
  const pick = (field: string, value: string) => setRule(narrowed(rule, field, value));
  return (
    <div
      className={`grid h-full ${selection.editing ? "grid-cols-[212px_1fr_284px]" : "grid-cols-[212px_1fr]"} max-lg:grid-cols-1`}
    >
      <aside className="overflow-auto border-rule border-r px-4 py-3 max-lg:hidden" aria-label="Filters">
        <h2 className="mb-2 text-[1.05rem]">Filters</h2>
        {SIDE_FIELDS.map((f) => (
          <Values key={f} field={f} among={among} onPick={(v) => pick(f, v)} />
        ))}
        <KeptViews address={address} onOpen={(kept) => navigate({ to: "/fleet", search: kept })} />
      </aside>
      <div className="flex min-h-0 min-w-0 flex-col gap-2.5 px-4 py-3">
        <h1 className="sr-only">Fleet</h1>
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
        {devices.error && problems.length === 0 && <Problem error={devices.error} />}
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
        <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
          <p aria-live="polite" className="mr-auto">
            <strong>{count(total)}</strong> devices {among.rule || among.words ? "match" : "in the fleet"}
            {selection.chosen.size > 0 && (
              <>
                {" "}
                · {count(selection.chosen.size)} chosen{" "}
                <Button kind="quiet" onClick={selection.clear}>
                  none
                </Button>
              </>
            )}
          </p>
          {selection.chosen.size > 0 && (
            <Button kind="quiet" onClick={() => selection.edit("chosen")}>
              Edit {count(selection.chosen.size)} chosen…
            </Button>
          )}
          {selection.chosen.size > 0 && (
            <DeviceActions
              devices={[...selection.chosen.values()]}
              label={`Act on ${count(selection.chosen.size)} chosen`}
              onDone={selection.clear}
            />
          )}
          <Button kind="quiet" disabled={!total || !!devices.error} onClick={() => selection.edit("all")}>
            Edit all {count(total)}…
          </Button>
          {!devices.error && (
            <Link to="/groups/$id" params={{ id: "new" }} search={{ rule: everything }} className="slot font-semibold">
              New group from these
            </Link>
          )}
          <Button kind="quiet" onClick={() => go({ grid: row ? undefined : "site,firmware" })}>
            {row ? "Hide the grid" : "Grid"}
          </Button>
          <AddDevice />
          <Link to="/import/$id" params={{ id: "new" }} className="slot font-semibold">
            Import
          </Link>
          <AdmissionsLink />
          <Columns chosen={columns} onChange={(c) => go({ columns: c.join(",") || undefined })} />
          <Exports among={among} order={order} columns={columns} />
        </div>
        <div className="min-h-0 flex-1">
          <DeviceTable
            label="Devices"
            rows={rows}
            extra={columns}
            selection={selection}
            ordering={{ order, change: (to) => go({ order: to === "name" ? undefined : to }) }}
            onEnd={() => devices.hasNextPage && !devices.isFetchingNextPage && devices.fetchNextPage()}
            empty="No device matches."
          />
        </div>
      </div>
      {selection.editing && (
        <aside className="overflow-auto border-rule border-l bg-side px-4 py-3" aria-label="Edit devices">
          <h2 className="mb-2 text-[1.05rem]">
            Edit{" "}
            {selection.editing === "all"
              ? `all ${counted(total, "device")} that match`
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
