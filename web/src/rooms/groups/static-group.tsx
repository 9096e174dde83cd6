/** A group picked by hand: its members, taking out and putting in. */
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { ApiError, api, body, type Schemas } from "@/api/client";
import { preview } from "@/api/queries";
import { Button, Confirm, Problem } from "@/parts/controls";
import { DeviceTable } from "@/parts/device-table";
import { counted } from "@/parts/format";
import { DeleteGroup } from "./delete-group";

export function StaticGroup({ group }: { group: Schemas["GroupDetail"] }) {
  const client = useQueryClient();
  const [words, setWords] = useState("");
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
  const change = useMutation({
    mutationFn: (devices: { add: string[]; remove: string[]; move?: boolean }) =>
      body(api.POST("/api/v1/groups/{group_id}/members", { params: { path }, body: devices })),
    onSuccess: (difference) => {
      client.invalidateQueries({ queryKey: ["group"] });
      setWords("");
      toast(`${counted(difference.joined, "device")} put in, ${difference.left} taken out`);
    },
  });
  const follow = useMutation({
    mutationFn: (rule: string) =>
      body(api.POST("/api/v1/groups/{group_id}/make-by-rule", { params: { path }, body: { rule } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["group"] }),
  });
  const would = useQuery({ ...preview(group.past_rule, group.id), enabled: group.past_rule !== "" });
  const names = words.split(/[\s,;]+/).filter(Boolean);
  const rows = members.data?.pages.flatMap((p) => p.devices) ?? [];
  return (
    <div className="grid min-h-0 grid-cols-[1fr_284px] max-lg:grid-cols-1">
      <div className="flex min-h-0 flex-col gap-3 px-5 py-3">
        <div className="flex items-start justify-between gap-3">
          <div>
            <h1 className="text-[1.45rem]">{group.name}</h1>
            <p className="text-soft">
              Picked by hand
              {group.folder && (
                <>
                  {" "}
                  · in <em>{group.folder}</em>
                </>
              )}
              {group.family && <> · one of the family “{group.family}”</>}
              {group.note && <> · {group.note}</>}
            </p>
          </div>
          <DeleteGroup group={group} />
        </div>
        <h2 className="text-[1.05rem]">{counted(group.member_count, "member")}</h2>
        <div className="min-h-0 flex-1">
          <DeviceTable
            label="Members"
            rows={rows}
            onEnd={() => members.hasNextPage && !members.isFetchingNextPage && members.fetchNextPage()}
            empty="Nobody yet. Put devices in at the right."
          />
        </div>
      </div>
      <aside className="overflow-auto border-rule border-l bg-side px-4 py-3" aria-label="Change the members">
        <h2 className="mb-1 text-[1.05rem]">Put in or take out</h2>
        <textarea
          className="field h-36 w-full font-mono"
          aria-label="Names or ids of devices"
          placeholder={"sill-0417\nsill-0420"}
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
        <p className="mb-2 text-soft">Names or maker's ids, one a line.</p>
        <div className="flex gap-2">
          <Button
            disabled={!names.length || change.isPending}
            onClick={() => change.mutate({ add: names, remove: [] })}
          >
            Put {names.length || ""} in
          </Button>
          <Button
            disabled={!names.length || change.isPending}
            onClick={() => change.mutate({ add: [], remove: names })}
          >
            Take {names.length || ""} out
          </Button>
        </div>
        <div className="mt-2">
          <Problem error={change.error} />
          {change.error instanceof ApiError && Array.isArray(change.error.body.moves) && (
            <Button className="mt-2" onClick={() => change.mutate({ add: names, remove: [], move: true })}>
              Move {names.length === 1 ? "it" : "them"} here
            </Button>
          )}
        </div>
        {group.past_rule && (
          <>
            <hr className="my-4 border-rule" />
            <h2 className="mb-1 text-[1.05rem]">It was by rule</h2>
            <code className="block whitespace-pre-wrap font-mono text-xs">{group.past_rule}</code>
            <Confirm
              trigger={<Button kind="quiet">Let it follow this rule again…</Button>}
              title={`Let “${group.name}” follow its rule again?`}
              action="Follow the rule"
              onConfirm={() => follow.mutate(group.past_rule)}
            >
              {would.data
                ? `${counted(would.data.joins ?? 0, "device")} join and ${would.data.leaves ?? 0} leave.`
                : "Who joins and who leaves is being counted."}
            </Confirm>
            <Problem error={follow.error} />
          </>
        )}
        <hr className="my-4 border-rule" />
        <h2 className="mb-1 text-[1.05rem]">Used by</h2>
        {group.uses.map((u) => (
          <p key={u.kind + u.id}>{u.sentence}</p>
        ))}
        {group.uses.length === 0 && <p className="text-soft">Nothing.</p>}
      </aside>
    </div>
  );
}
