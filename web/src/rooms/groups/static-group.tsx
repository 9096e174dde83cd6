/** A group picked by hand: its members, taking out and putting in. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { useLimits, useMay } from "@/api/use-may";
import { count, counted } from "@/lib/format";
import { useSelection } from "@/lib/use-selection";
import { written } from "@/parts/clauses";
import { Button, Confirm, Problem } from "@/parts/controls";
import { Failed, Skeleton } from "@/parts/views";
import { AddDevices, useMemberChange } from "./add-devices";
import { DeleteGroup } from "./delete-group";
import { DescribeGroup } from "./describe-group";
import { FollowListForm } from "./follow-list-form";
import { FollowedList } from "./followed-list";
import { GroupComing } from "./group-coming";
import { GroupLine } from "./group-line";
import { MemberList } from "./member-list";
import { ProposedRule, useFollowRule } from "./proposed-rule";
import { followedList, preview } from "./queries";

export function StaticGroup({ group }: { group: Schemas["GroupDetail"] }) {
  const mayOperate = useMay("operate-all");
  // somebody limited sees no list: its entries may name devices of others
  const limits = useLimits();
  const list = useQuery({ ...followedList(group.id), enabled: limits === null });
  const byHand = mayOperate && list.data === null;
  const [following, setFollowing] = useState(false);
  const selection = useSelection();
  const takeOut = useMemberChange(group.id, selection.clear);
  const chosen = selection.chosen.size;
  return (
    <div className="grid min-h-0 grid-cols-[minmax(0,1fr)_284px] max-xl:grid-cols-[minmax(0,1fr)_240px] max-md:block max-md:overflow-auto">
      <div className="flex min-h-0 flex-col gap-3 px-5 py-3">
        <div className="flex items-start gap-3 max-md:flex-wrap">
          <div className="min-w-0 flex-1 max-md:basis-full">
            <h1 className="text-[1.45rem]">{group.name}</h1>
            <GroupLine group={group} how={limits !== null ? "Static" : howWords(list.data)} />
          </div>
          {mayOperate && <DescribeGroup group={group} />}
          {mayOperate && <DeleteGroup group={group} />}
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
                Remove the {count(chosen)} selected
              </Button>
              <Button kind="quiet" onClick={selection.clear}>
                Clear selection
              </Button>
            </>
          )}
          <Link to="/groups/$id/days" params={{ id: String(group.id) }} search={{}} className="slot ml-auto">
            Membership history
          </Link>
        </div>
        <Problem error={takeOut.error} />
        <MemberList
          rule={`group = ${written(group.name)}`}
          label="Members"
          selection={byHand ? selection : undefined}
          empty={byHand ? "No member yet. Add devices at the right." : "No member."}
        />
      </div>
      <aside className="overflow-auto border-rule border-l bg-side px-4 py-3" aria-label="Change the members">
        {limits === null && list.data === undefined && (
          <>
            {list.error ? <Failed what="The list that it follows" of={list} /> : <Skeleton rows={4} />}
            <hr className="my-4 border-rule" />
          </>
        )}
        {list.data && (
          <>
            <FollowedList group={group} list={list.data} />
            <hr className="my-4 border-rule" />
          </>
        )}
        {byHand && (
          <>
            <AddDevices group={group} />
            <Button kind="quiet" className="mt-1" onClick={() => setFollowing(true)}>
              Or follow a list kept elsewhere…
            </Button>
            {following && <FollowListForm group={group} list={null} onClose={() => setFollowing(false)} />}
            <hr className="my-4 border-rule" />
          </>
        )}
        {byHand && group.previous_rule && <PastRule group={group} />}
        {byHand && !group.family && (
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
        <hr className="my-4 border-rule" />
        <GroupComing group={group.id} />
      </aside>
    </div>
  );
}

/** How it gets its members; nothing is claimed before it is known. */
function howWords(list: Schemas["FollowedListRow"] | null | undefined): string {
  if (list === undefined) return "Static";
  return list ? "Follows a list" : "Picked by hand";
}

function PastRule({ group }: { group: Schemas["GroupDetail"] }) {
  const follow = useFollowRule(group);
  const would = useQuery(preview(group.previous_rule ?? "", group.id));
  return (
    <>
      <h2 className="mb-1 text-[1.05rem]">Previously rule-based</h2>
      <code className="block whitespace-pre-wrap font-mono text-xs">{group.previous_rule}</code>
      <Confirm
        trigger={<Button kind="quiet">Convert back to this rule…</Button>}
        title={`Convert “${group.name}” back to its rule?`}
        action="Convert to rule"
        onConfirm={() => follow.mutate(group.previous_rule ?? "")}
      >
        {would.data
          ? `${counted(would.data.joins ?? 0, "device")} join and ${would.data.leaves ?? 0} leave.`
          : would.error
            ? "Who would join and leave could not be counted."
            : "Counting who joins and who leaves…"}
      </Confirm>
      <Problem error={follow.error} />
      <hr className="my-4 border-rule" />
    </>
  );
}
