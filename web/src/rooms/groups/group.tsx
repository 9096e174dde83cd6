/** One group: its rule with the live preview while typing, and what saving changes. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import clsx from "clsx";
import { type ReactNode, useEffect, useMemo, useState } from "react";
import { toast } from "sonner";
import { ApiError, api, body, type Schemas } from "@/api/client";
import { group as groupQuery, preview as previewQuery, sieve as sieveQuery } from "@/api/queries";
import { useClock } from "@/app/clock";
import { groupRoute } from "@/app/router";
import { Button, Problem } from "@/parts/controls";
import { DeviceTable } from "@/parts/device-table";
import { count, counted, instant } from "@/parts/format";
import { RuleEditor } from "@/parts/rule-editor";
import { useDebounced } from "@/parts/use-debounced";
import { Ask } from "./ask";
import { DeleteGroup } from "./delete-group";
import { DescribeGroup } from "./describe-group";
import { GroupLine } from "./group-line";
import { MakeStatic } from "./make-static";
import { MembersCurve } from "./members-curve";
import { Consequence, SaveRule } from "./saving";
import { Sieve } from "./sieve";
import { StaticGroup } from "./static-group";
import { WorthALook } from "./worth-a-look";

export function GroupPage() {
  const { id } = groupRoute.useParams();
  const { rule, folder } = groupRoute.useSearch();
  if (id === "new") return <RuleGroup key={`new${rule ?? ""}`} group={null} startRule={rule ?? ""} folder={folder} />;
  return <Known key={id} id={Number(id)} />;
}

function Known({ id }: { id: number }) {
  const { data, error } = useQuery(groupQuery(id));
  if (error && !data)
    return (
      <div className="p-6">
        <Problem error={error} />
      </div>
    );
  if (!data) return null;
  return data.kind === "static" ? <StaticGroup group={data} /> : <RuleGroup group={data} startRule={data.rule} />;
}

type Tab = "in" | "joining" | "leaving" | "missed";

function RuleGroup({
  group,
  startRule,
  folder = null,
}: {
  group: Schemas["GroupDetail"] | null;
  startRule: string;
  folder?: number | null;
}) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { now, zone } = useClock();
  const [name, setName] = useState("");
  const [rule, setRule] = useState(startRule);
  const [tab, setTab] = useState<Tab>("in");
  const settled = useDebounced(rule, 180);
  const preview = useQuery(previewQuery(settled, group?.id ?? null));
  // while nothing is edited, the rule follows what others save
  const [seen, setSeen] = useState(startRule);
  useEffect(() => {
    if (group && group.rule !== seen) {
      if (rule === seen) setRule(group.rule);
      setSeen(group.rule);
    }
  }, [group, rule, seen]);

  const refusal = preview.error instanceof ApiError && settled === rule ? preview.error : null;
  const shown = refusal || !rule.trim() ? undefined : preview.data;
  const sifted = useQuery({ ...sieveQuery(settled), enabled: settled.trim() !== "" && preview.isSuccess });
  const sieve = refusal || !rule.trim() ? undefined : sifted.data;
  const edited = group ? rule !== group.rule : rule.trim() !== "" || name !== "";
  const save = useMutation({
    mutationFn: () =>
      group
        ? body(
            api.PATCH("/api/v1/groups/{group_id}", {
              params: { path: { group_id: group.id } },
              body: { rule },
            }),
          )
        : body(api.POST("/api/v1/groups", { body: { name, rule, kind: "rule", folder_id: folder } })),
    onSuccess: (saved) => {
      client.setQueryData(groupQuery(saved.id).queryKey, saved);
      client.invalidateQueries({ queryKey: ["group"] });
      client.invalidateQueries({ queryKey: ["preview"] });
      toast(`“${saved.name}” saved: ${counted(saved.member_count, "device")}`);
      if (!group) navigate({ to: "/groups/$id", params: { id: String(saved.id) }, search: {} });
    },
  });
  const pickByHand = useMutation({
    mutationFn: () => body(api.POST("/api/v1/groups", { body: { name, kind: "static", folder_id: folder } })),
    onSuccess: (made) => {
      client.invalidateQueries({ queryKey: ["group"] });
      navigate({ to: "/groups/$id", params: { id: String(made.id) }, search: {} });
    },
  });
  const marks = useMemo(() => {
    const found = new Map<number, ReactNode>();
    for (const d of shown?.joining ?? []) found.set(d.id, <Mark tone="verdigris">joins</Mark>);
    for (const d of shown?.leaving ?? []) found.set(d.id, <Mark tone="brick">leaves</Mark>);
    return found;
  }, [shown]);
  const reasons = useMemo(
    () =>
      new Map<number, ReactNode>(
        sieve?.missed.map((m) => [
          m.device.id,
          <span key={m.device.id} title={`${m.line}: ${m.value}. ${m.why}`}>
            <code className="font-mono text-xs">{m.line}</code> <span className="text-soft">{m.why || m.value}</span>
          </span>,
        ]),
      ),
    [sieve],
  );
  const missed = sieve?.missed.map((m) => m.device);
  const rows = { in: shown?.devices, joining: shown?.joining, leaving: shown?.leaving, missed }[tab] ?? [];
  return (
    <div className="grid min-h-0 grid-cols-[1fr_284px] max-lg:grid-cols-1">
      <div className="flex min-h-0 flex-col gap-3 px-5 py-3">
        <div className="flex items-start gap-3">
          <div className="min-w-0 flex-1">
            {group ? (
              <>
                <h1 className="text-[1.45rem]">{group.name}</h1>
                <GroupLine group={group} />
                <Link to="/rollouts/new" search={{ group: group.id }} className="slot">
                  Roll out to it…
                </Link>
              </>
            ) : (
              <>
                <h1 className="sr-only">New group</h1>
                <input
                  aria-label="Name of the group"
                  className="w-full rounded-sm border border-transparent bg-transparent font-bold font-display text-[1.45rem] placeholder:text-soft hover:border-rule"
                  placeholder="Name the new group"
                  value={name}
                  maxLength={80}
                  onChange={(e) => setName(e.target.value)}
                />
                <p className="text-soft">
                  By rule, or{" "}
                  <Button
                    kind="quiet"
                    disabled={!name.trim() || pickByHand.isPending}
                    onClick={() => pickByHand.mutate()}
                  >
                    pick its devices by hand
                  </Button>
                  {!name.trim() && "once it has a name"}
                </p>
              </>
            )}
          </div>
          {group && !edited && <DescribeGroup group={group} />}
          {group && !edited && <MakeStatic group={group} />}
          {group && !edited && <DeleteGroup group={group} />}
          {edited && (
            <Button
              onClick={() => {
                setRule(group?.rule ?? "");
                setName("");
              }}
            >
              Discard
            </Button>
          )}
          <SaveRule
            group={group}
            shown={shown}
            disabled={!edited || (!group && !name.trim()) || !shown || save.isPending || rule !== settled}
            onSave={() => save.mutate()}
          />
        </div>
        <RuleEditor label="Rule" value={rule} onChange={setRule} problems={refusal?.errors ?? []} autoFocus={!group} />
        <Problem error={save.error ?? pickByHand.error} />
        {refusal && refusal.errors.length === 0 && <Problem error={refusal} />}
        {sieve && <Sieve data={sieve} busy={sifted.isPlaceholderData || rule !== settled} onChange={setRule} />}
        <div className="flex items-baseline gap-5">
          <h2 className="text-[1.05rem]">Devices</h2>
          <div className="flex gap-5" role="tablist" aria-label="Devices">
            <TabButton on={tab === "in"} pick={() => setTab("in")}>
              In {shown ? count(shown.count) : ""}
            </TabButton>
            {group && (
              <>
                <TabButton on={tab === "joining"} pick={() => setTab("joining")}>
                  Joining {count(shown?.joins ?? 0)}
                </TabButton>
                <TabButton on={tab === "leaving"} pick={() => setTab("leaving")}>
                  Leaving {count(shown?.leaves ?? 0)}
                </TabButton>
              </>
            )}
            {sieve && sieve.lines.length > 1 && (
              <TabButton on={tab === "missed"} pick={() => setTab("missed")}>
                Just missed {count(sieve.missed_count)}
              </TabButton>
            )}
          </div>
          <p className="ml-auto text-soft" aria-live="polite">
            {shown &&
              `${count(shown.count)} of ${count(shown.fleet)} · as of ${instant(shown.as_of, zone, now)} · ${Math.round(shown.took_ms)} ms`}
          </p>
        </div>
        <div className="min-h-0 flex-1">
          <DeviceTable
            label="Devices of the group"
            rows={rows}
            marks={marks}
            reasons={tab === "missed" ? reasons : undefined}
            empty={
              rule.trim()
                ? refusal
                  ? "The rule cannot be understood yet."
                  : "No device."
                : "An empty rule is nobody. Write one above."
            }
          />
        </div>
        {rows.length >= 50 && <p className="text-soft">The first {rows.length}, by name.</p>}
      </div>
      <aside className="overflow-auto border-rule border-l bg-side px-4 py-3" aria-label="And then what">
        <Ask rule={settled} />
        <hr className="my-4 border-rule" />
        {sieve && sieve.notes.length > 0 && (
          <>
            <WorthALook notes={sieve.notes} />
            <hr className="my-4 border-rule" />
          </>
        )}
        <h2 className="mb-1 text-[1.05rem]">Saving changes this</h2>
        <Consequence group={group} shown={shown} rule={rule} />
        {group && (
          <>
            <hr className="my-4 border-rule" />
            <MembersCurve groupId={group.id} would={shown?.count} />
          </>
        )}
      </aside>
    </div>
  );
}

function Mark({ tone, children }: { tone: "verdigris" | "brick"; children: ReactNode }) {
  return (
    <span
      className="ml-1 rounded-sm border px-1 text-xs"
      style={{ color: `var(--${tone})`, borderColor: `var(--${tone})` }}
    >
      {children}
    </span>
  );
}

function TabButton({ on, pick, children }: { on: boolean; pick: () => void; children: ReactNode }) {
  return (
    <button
      type="button"
      role="tab"
      aria-selected={on}
      onClick={pick}
      className={clsx("border-b-2 py-0.5", on ? "border-ink font-semibold" : "border-transparent text-soft")}
    >
      {children}
    </button>
  );
}
