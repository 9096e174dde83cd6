/** A rule for a group picked by hand: exact, or the nearest with what differs. Nothing changes until it is taken. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { count, counted } from "@/lib/format";
import { Button, Confirm, Problem } from "@/parts/controls";
import { proposedRule } from "./queries";

export function useFollowRule(group: Schemas["GroupDetail"]) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (rule: string) =>
      body(
        api.POST("/api/v1/groups/{group_id}/convert-to-rule", {
          params: { path: { group_id: group.id } },
          body: { rule },
        }),
      ),
    onSuccess: (made) => {
      changed(client, "group");
      toast(`“${made.name}” follows its rule: ${counted(made.member_count, "device")}`);
    },
  });
}

export function ProposedRule({ group }: { group: Schemas["GroupDetail"] }) {
  const [asked, setAsked] = useState(false);
  const { data, error, isPending } = useQuery({ ...proposedRule(group.id), enabled: asked });
  const follow = useFollowRule(group);
  const useless = data !== undefined && data.leaves * 2 > group.member_count;
  if (!asked)
    return (
      <Button kind="quiet" disabled={group.member_count === 0} onClick={() => setAsked(true)}>
        Find a rule that gives these {count(group.member_count)}
      </Button>
    );
  return (
    <div aria-live="polite">
      <h2 className="mb-1 text-[1.05rem]">A rule for these devices</h2>
      {isPending && !error && <p className="text-soft">Looking for what these devices have in common…</p>}
      <Problem error={error ?? follow.error} />
      {data && (
        <>
          <code className="block whitespace-pre-wrap rounded-sm border border-rule bg-card p-2 font-mono text-xs">
            {data.rule}
          </code>
          <p className="my-1.5">
            {data.joins + data.leaves === 0 ? (
              <>Gives exactly these {counted(group.member_count, "device")}.</>
            ) : useless ? (
              <>
                No rule comes near: nothing tells these devices from the others. The best that was found would lose{" "}
                <strong>{count(data.leaves)}</strong> of them.
              </>
            ) : (
              <>
                The nearest that was found: <strong>{count(data.joins)}</strong> more would join,{" "}
                <strong>{count(data.leaves)}</strong> would leave.
              </>
            )}
          </p>
          {!useless && (
            <>
              <Names words="Would join" devices={data.joining} all={data.joins} />
              <Names words="Would leave" devices={data.leaving} all={data.leaves} />
              <Confirm
                trigger={<Button>Convert to this rule…</Button>}
                title={`Convert “${group.name}” to this rule?`}
                action="Convert to rule"
                onConfirm={() => follow.mutate(data.rule)}
              >
                {counted(data.joins, "device")} join and {count(data.leaves)} leave now; from then on devices come and
                go as they change.
                {group.following.length > 0 &&
                  ` It is followed by ${group.following.map((u) => u.sentence).join(", ")}.`}
              </Confirm>
            </>
          )}
        </>
      )}
    </div>
  );
}

function Names({ words, devices, all }: { words: string; devices: Schemas["DeviceRow"][]; all: number }) {
  if (all === 0) return null;
  const shown = devices.slice(0, 6).map((d) => d.name);
  return (
    <p className="mb-1 text-soft text-xs">
      {words}: {shown.join(", ")}
      {all > shown.length && ` and ${count(all - shown.length)} more`}
    </p>
  );
}
