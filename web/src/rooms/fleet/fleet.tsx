/** Fleet: a rule line on top, value counts at the side that narrow by a press, and the devices. */
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { ApiError, api, body } from "@/api/client";
import { values } from "@/api/queries";
import { fleetRoute } from "@/app/router";
import { Bar, Problem } from "@/parts/controls";
import { DeviceTable } from "@/parts/device-table";
import { count } from "@/parts/format";
import { RuleEditor } from "@/parts/rule-editor";
import { useDebounced } from "@/parts/use-debounced";
import { narrowed } from "./narrow";

const SIDE_FIELDS = ["model", "site", "uplink", "tag", "power", "presence"];

export function Fleet() {
  const { rule: inAddress = "" } = fleetRoute.useSearch();
  const navigate = useNavigate();
  const [rule, setRule] = useState(inAddress);
  const settled = useDebounced(rule, 250);
  useEffect(() => setRule(inAddress), [inAddress]);
  useEffect(() => {
    if (settled !== inAddress) navigate({ to: "/fleet", search: { rule: settled || undefined }, replace: true });
  }, [settled, inAddress, navigate]);

  const devices = useInfiniteQuery({
    queryKey: ["fleet", inAddress],
    queryFn: ({ pageParam }) =>
      body(api.GET("/api/v1/devices", { params: { query: { rule: inAddress, limit: 200, cursor: pageParam } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: (before) => before,
    retry: false,
    refetchInterval: 10_000,
  });
  const rows = devices.data?.pages.flatMap((p) => p.devices) ?? [];
  const problems = devices.error instanceof ApiError ? devices.error.errors : [];
  const total = devices.data?.pages[0]?.count ?? 0;
  return (
    <div className="grid h-full grid-cols-[212px_1fr] max-lg:grid-cols-1">
      <aside className="overflow-auto border-rule border-r px-4 py-3 max-lg:hidden" aria-label="Values">
        <h2 className="mb-2 text-[1.05rem]">Values in the fleet</h2>
        {SIDE_FIELDS.map((f) => (
          <Values key={f} field={f} onPick={(v) => setRule(narrowed(rule, f, v))} />
        ))}
      </aside>
      <div className="flex min-h-0 flex-col gap-3 px-4 py-3">
        <h1 className="sr-only">Fleet</h1>
        <RuleEditor
          label="Rule"
          value={rule}
          onChange={setRule}
          problems={problems}
          hint="All devices. Type a rule to narrow, for example: family = Sill and firmware < 5.2.0"
        />
        {devices.error && problems.length === 0 && <Problem error={devices.error} />}
        <div className="flex items-baseline justify-between">
          <p aria-live="polite">
            <strong>{count(total)}</strong> devices {rule.trim() ? "match" : "in the fleet"}
          </p>
          {rule.trim() && !devices.error && (
            <Link to="/groups/$id" params={{ id: "new" }} search={{ rule }} className="slot font-semibold">
              Make a group of these
            </Link>
          )}
        </div>
        <div className="min-h-0 flex-1">
          <DeviceTable
            label="Devices"
            rows={rows}
            onEnd={() => devices.hasNextPage && !devices.isFetchingNextPage && devices.fetchNextPage()}
            empty="No device matches this rule."
          />
        </div>
      </div>
    </div>
  );
}

function Values({ field, onPick }: { field: string; onPick: (value: string) => void }) {
  const { data } = useQuery(values(field));
  if (!data?.length) return null;
  const most = data[0]?.count ?? 1;
  return (
    <section className="mb-4">
      <h3 className="mb-1 font-sans font-semibold text-soft first-letter:uppercase">{field}</h3>
      <ul>
        {data.slice(0, 7).map((v) => (
          <li key={v.value}>
            <button
              type="button"
              className="block w-full py-[3px] text-left hover:text-verdigris"
              onClick={() => onPick(v.value)}
              title={`Narrow to ${field} ${v.value}`}
            >
              <span className="flex justify-between gap-2">
                <span className="truncate">{v.value}</span>
                <span className="text-soft">{count(v.count)}</span>
              </span>
              <Bar thin share={v.count / most} label={`${v.count} devices`} />
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
