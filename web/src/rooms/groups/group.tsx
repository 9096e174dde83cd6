/** One group: its rule with the live preview while typing, and what saving changes. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import clsx from "clsx";
import { type ReactNode, useEffect, useMemo, useState } from "react";
import { toast } from "sonner";
import { ApiError, api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { count, counted, instant } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { useDebounced } from "@/lib/use-debounced";
import { Button, Problem } from "@/parts/controls";
import { DeviceTable } from "@/parts/device-table";
import { RuleEditor } from "@/parts/rule-editor";
import { Failed, Skeleton, WholePage } from "@/parts/views";
import { Ask } from "./ask-devices";
import { DeleteGroup } from "./delete-group";
import { DescribeGroup } from "./describe-group";
import { GroupComing } from "./group-coming";
import { GroupLine } from "./group-line";
import { MakeStatic } from "./make-static";
import { MemberList } from "./member-list";
import { MembersCurve } from "./members-curve";
import { group as groupQuery, preview as previewQuery, sieve as sieveQuery } from "./queries";
import { RuleNotes } from "./rule-notes";
import { type RuleState, SaveConsequences, SaveRule } from "./save-rule";
import { Sieve } from "./sieve";
import { StaticGroup } from "./static-group";

const groupRoute = getRouteApi("/groups/$id");

export function GroupPage() {
  const { id } = groupRoute.useParams();
  const { rule, folder } = groupRoute.useSearch();
  if (id === "new") return <RuleGroup key={`new${rule ?? ""}`} group={null} startRule={rule ?? ""} folder={folder} />;
  return <Known key={id} id={Number(id)} />;
}

function Known({ id }: { id: number }) {
  const asked = useQuery(groupQuery(id));
  usePageTitle(asked.data?.name);
  return (
    <WholePage of={asked} what={`Group ${id}`}>
      {(data) =>
        data.kind === "static" ? <StaticGroup group={data} /> : <RuleGroup group={data} startRule={data.rule} />
      }
    </WholePage>
  );
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
  const mayOperate = useMay("operate-all");
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

  usePageTitle(group ? undefined : "New group");
  const refused = preview.error instanceof ApiError && preview.error.status >= 400 && preview.error.status < 500;
  const refusal = refused && settled === rule ? (preview.error as ApiError) : null;
  const shown = refusal || !rule.trim() || preview.error ? undefined : preview.data;
  // counts of an earlier rule, which are shown faded, are agreed to by nobody
  const isCurrent = rule === settled && !preview.isPlaceholderData && !preview.error;
  const state: RuleState = !rule.trim()
    ? "blank"
    : refusal
      ? "refused"
      : preview.error
        ? "failed"
        : isCurrent && shown
          ? "counted"
          : "counting";
  const sifted = useQuery({ ...sieveQuery(settled), enabled: settled.trim() !== "" && preview.isSuccess });
  const sieve = refusal || !rule.trim() ? undefined : sifted.data;
  // the sieve and the count are two answers: where they differ, the sieve is counted anew and says so meanwhile
  const sieveCount = sifted.isPlaceholderData ? undefined : sieve?.count;
  const disagree = isCurrent && shown !== undefined && sieveCount !== undefined && sieveCount !== shown.count;
  const { refetch: siftAgain } = sifted;
  // biome-ignore lint/correctness/useExhaustiveDependencies: once for each new count
  useEffect(() => {
    if (disagree) siftAgain();
  }, [disagree, shown?.count, siftAgain]);
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
      changed(client, "group");
      changed(client, "preview");
      toast(`“${saved.name}” saved: ${counted(saved.member_count, "device")}`);
      if (!group) navigate({ to: "/groups/$id", params: { id: String(saved.id) }, search: {} });
    },
  });
  const pickByHand = useMutation({
    mutationFn: () => body(api.POST("/api/v1/groups", { body: { name, kind: "static", folder_id: folder } })),
    onSuccess: (made) => {
      changed(client, "group");
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
  const rows = { in: [], joining: shown?.joining, leaving: shown?.leaving, missed }[tab] ?? [];
  return (
    <div className="grid min-h-0 grid-cols-[minmax(0,1fr)_284px] max-xl:grid-cols-[minmax(0,1fr)_240px] max-md:block max-md:overflow-auto">
      <div className="flex min-h-0 flex-col gap-3 px-5 py-3">
        <div className="flex items-start gap-3 max-md:flex-wrap">
          <div className="min-w-0 flex-1 max-md:basis-full">
            {group ? (
              <>
                <h1 className="text-[1.45rem]">{group.name}</h1>
                <GroupLine group={group} />
                {mayOperate && (
                  <Link to="/rollouts/new" search={{ group: group.id }} className="slot">
                    Roll out to it…
                  </Link>
                )}
                {mayOperate && (
                  <Link to="/commands/new" search={{ group: group.id }} className="slot ml-4">
                    Run a command on it…
                  </Link>
                )}
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
          {mayOperate && group && !edited && <DescribeGroup group={group} />}
          {mayOperate && group && !edited && <MakeStatic group={group} />}
          {mayOperate && group && !edited && <DeleteGroup group={group} />}
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
          {mayOperate && (
            <SaveRule
              group={group}
              shown={isCurrent ? shown : undefined}
              disabled={!edited || (!group && !name.trim()) || state !== "counted" || save.isPending}
              onSave={() => save.mutate()}
            />
          )}
        </div>
        <RuleEditor label="Rule" value={rule} onChange={setRule} problems={refusal?.errors ?? []} autoFocus={!group} />
        <Problem error={save.error ?? pickByHand.error} />
        {state === "failed" && <Failed what="The devices that match" of={preview} />}
        {sifted.error && state === "counted" && <Failed what="The sieve" of={sifted} />}
        {refusal && refusal.errors.length === 0 && <Problem error={refusal} />}
        {!sieve && !sifted.error && (state === "counting" || state === "counted") && <Skeleton rows={3} />}
        {sieve && (
          <Sieve data={sieve} busy={sifted.isPlaceholderData || rule !== settled || disagree} onChange={setRule} />
        )}
        <div className="flex items-baseline gap-5">
          <h2 className="text-[1.05rem]">Devices</h2>
          <div className="flex gap-5" role="tablist" aria-label="Devices">
            <TabButton on={tab === "in"} pick={() => setTab("in")}>
              In {shown ? <Faded is={!isCurrent}>{count(shown.count)}</Faded> : state === "counting" ? "…" : ""}
            </TabButton>
            {group && (
              <>
                <TabButton on={tab === "joining"} pick={() => setTab("joining")}>
                  Joining {shown ? <Faded is={!isCurrent}>{count(shown.joins ?? 0)}</Faded> : "…"}
                </TabButton>
                <TabButton on={tab === "leaving"} pick={() => setTab("leaving")}>
                  Leaving {shown ? <Faded is={!isCurrent}>{count(shown.leaves ?? 0)}</Faded> : "…"}
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
            {isCurrent &&
              shown &&
              `${count(shown.count)} of ${count(shown.fleet)} · as of ${instant(shown.as_of, zone, now)} · ${Math.round(shown.took_ms)} ms`}
          </p>
        </div>
        {state === "blank" && <p className="text-soft">An empty rule matches nobody. Write one above.</p>}
        {state === "refused" && <p className="text-soft">Correct the rule to see the devices that it matches.</p>}
        {!shown && state === "counting" && <Skeleton rows={8} />}
        {shown && tab === "in" && (
          <MemberList rule={settled} label="Devices of the group" marks={marks} empty="No device matches." />
        )}
        {shown && tab !== "in" && (
          <div className="min-h-0 flex-1">
            <DeviceTable
              label="Devices of the group"
              rows={rows}
              marks={marks}
              reasons={tab === "missed" ? reasons : undefined}
              empty={
                {
                  joining: "No device would join.",
                  leaving: "No device would leave.",
                  missed: "No device just missed.",
                }[tab]
              }
            />
          </div>
        )}
        {shown && tab !== "in" && rows.length >= 50 && <p className="text-soft">The first {rows.length}, by name.</p>}
      </div>
      <aside className="overflow-auto border-rule border-l bg-side px-4 py-3" aria-label="Consequences">
        <Ask rule={settled} />
        <hr className="my-4 border-rule" />
        {sieve && sieve.notes.length > 0 && (
          <>
            <RuleNotes notes={sieve.notes} />
            <hr className="my-4 border-rule" />
          </>
        )}
        <h2 className="mb-1 text-[1.05rem]">What saving changes</h2>
        <SaveConsequences group={group} shown={isCurrent ? shown : undefined} state={state} rule={rule} />
        {group && (
          <>
            <hr className="my-4 border-rule" />
            <MembersCurve groupId={group.id} would={isCurrent ? shown?.count : undefined} />
            <hr className="my-4 border-rule" />
            <GroupComing group={group.id} />
          </>
        )}
      </aside>
    </div>
  );
}

/** A count that belongs to an earlier rule. */
function Faded({ is, children }: { is: boolean; children: ReactNode }) {
  return <span className={is ? "opacity-50" : undefined}>{children}</span>;
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
