/** A group picked by hand: its members, taking out and putting in. */
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { api, body, type Schemas } from "@/api/client";
import { preview } from "@/api/queries";
import { Button, Confirm, Problem } from "@/parts/controls";
import { DeviceTable } from "@/parts/device-table";
import { count, counted } from "@/parts/format";
import { useSelection } from "@/parts/use-selection";
import { DeleteGroup } from "./delete-group";
import { DescribeGroup } from "./describe-group";
import { GroupLine } from "./group-line";
import { ProposedRule, useFollowRule } from "./proposed-rule";
import { PutIn, useMemberChange } from "./put-in";

export function StaticGroup({ group }: { group: Schemas["GroupDetail"] }) {
  const selection = useSelection();
  const path = { group_id: group.id };
  const members = useInfiniteQuery({
    queryKey: ["group", group.id, "members"],
    queryFn: ({ pageParam }) =>
      body(
        api.GET("/api/v1/groups/{group_id}/members", { params: { path, query: { limit: 200, cursor: pageParam } } }),
      ),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
  });
  const takeOut = useMemberChange(group.id, selection.clear);
  const rows = members.data?.pages.flatMap((p) => p.devices) ?? [];
  const chosen = selection.chosen.size;
  return (
    <div className="grid min-h-0 grid-cols-[1fr_284px] max-lg:grid-cols-1">
      <div className="flex min-h-0 flex-col gap-3 px-5 py-3">
        <div className="flex items-start gap-3">
          <div className="min-w-0 flex-1">
            <h1 className="text-[1.45rem]">{group.name}</h1>
            <GroupLine group={group} />
          </div>
          <DescribeGroup group={group} />
          <DeleteGroup group={group} />
        </div>
        <div className="flex items-baseline gap-4">
          <h2 className="text-[1.05rem]">{counted(group.member_count, "member")}</h2>
          {chosen > 0 && (
            <>
              <Button
                kind="quiet"
                disabled={takeOut.isPending}
                onClick={() => takeOut.mutate({ add: [], remove: [...selection.chosen.values()] })}
              >
                Take the {count(chosen)} chosen out
              </Button>
              <Button kind="quiet" onClick={selection.clear}>
                none
              </Button>
            </>
          )}
          <Link to="/groups/$id/days" params={{ id: String(group.id) }} search={{}} className="slot ml-auto">
            Who was in, and when
          </Link>
        </div>
        <Problem error={takeOut.error} />
        <div className="min-h-0 flex-1">
          <DeviceTable
            label="Members"
            rows={rows}
            selection={selection}
            onEnd={() => members.hasNextPage && !members.isFetchingNextPage && members.fetchNextPage()}
            empty="Nobody yet: the group stands ready. Put devices in at the right."
          />
        </div>
      </div>
      <aside className="overflow-auto border-rule border-l bg-side px-4 py-3" aria-label="Change the members">
        <PutIn group={group} />
        <hr className="my-4 border-rule" />
        {group.past_rule && <PastRule group={group} />}
        {!group.family && (
          <>
            <ProposedRule key={group.id} group={group} />
            <hr className="my-4 border-rule" />
          </>
        )}
        <h2 className="mb-1 text-[1.05rem]">Used by</h2>
        {group.uses.map((u) => (
          <p key={u.kind + u.id}>{u.sentence}</p>
        ))}
        {group.uses.length === 0 && <p className="text-soft">Nothing.</p>}
      </aside>
    </div>
  );
}

function PastRule({ group }: { group: Schemas["GroupDetail"] }) {
  const follow = useFollowRule(group);
  const would = useQuery(preview(group.past_rule ?? "", group.id));
  return (
    <>
      <h2 className="mb-1 text-[1.05rem]">It was by rule</h2>
      <code className="block whitespace-pre-wrap font-mono text-xs">{group.past_rule}</code>
      <Confirm
        trigger={<Button kind="quiet">Let it follow this rule again…</Button>}
        title={`Let “${group.name}” follow its rule again?`}
        action="Follow the rule"
        onConfirm={() => follow.mutate(group.past_rule ?? "")}
      >
        {would.data
          ? `${counted(would.data.joins ?? 0, "device")} join and ${would.data.leaves ?? 0} leave.`
          : "Who joins and who leaves is being counted."}
      </Confirm>
      <Problem error={follow.error} />
      <hr className="my-4 border-rule" />
    </>
  );
}
