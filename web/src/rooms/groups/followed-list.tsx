/** The list kept elsewhere that a static group follows: when it was read, what waits, and what can be done with it. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { counted, everyWords, instant, relative } from "@/lib/format";
import { Button, Confirm, Modal, Problem } from "@/parts/controls";
import { FollowListForm } from "./follow-list-form";
import { changeWords, LeftOut, ListPreview } from "./list-preview";

type Followed = Schemas["FollowedListRow"];

export function FollowedList({ group, list }: { group: Schemas["GroupDetail"]; list: Followed }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const mayOperate = useMay("operate-all");
  const [editing, setEditing] = useState(false);
  const path = { params: { path: { group_id: group.id } } };
  const { url, names, pointer, column } = list;
  const look = useMutation({
    mutationFn: () =>
      body(api.POST("/api/v1/groups/{group_id}/list/preview", { ...path, body: { url, names, pointer, column } })),
  });
  const read = useMutation({
    mutationFn: (leaves: number | undefined) =>
      body(api.POST("/api/v1/groups/{group_id}/list/read", { ...path, body: { leaves } })),
    onSuccess: (row) => {
      changed(client, "group");
      look.reset();
      toast(row.last_error ? "The list could not be read" : `Read: ${counted(row.found, "device")}`);
    },
  });
  const stop = useMutation({
    mutationFn: () => api.DELETE("/api/v1/groups/{group_id}/list", path),
    onSuccess: () => {
      changed(client, "group");
      toast(`“${group.name}” is picked by hand from now on`);
    },
  });
  return (
    <section aria-labelledby="follows">
      <h2 id="follows" className="mb-1 text-[1.05rem]">
        Follows a list
      </h2>
      <p className="break-words font-mono text-xs" title={url}>
        {shownAddress(url)}
      </p>
      <p className="mt-1">
        {list.read_at ? `Read ${instant(list.read_at, zone, now)}` : "Never read"}
        <span className="text-soft">, {everyWords(list.read_every_minutes * 60)}</span>
      </p>
      <p>
        {counted(list.entries, "entry", "entries")}, {counted(list.found, "device")}
      </p>
      {list.last_error && (
        <p className="mt-1 text-brick">
          <span aria-hidden>▪ </span>
          {list.tried_at && `Not read ${relative(list.tried_at, now)}`}
          {list.failures > 1 && `, ${list.failures} times in a row`}: {list.last_error} The members stay as they are.
        </p>
      )}
      {list.waits_since && (
        <div className="mt-2 rounded-sm border border-saffron-ink px-2 py-1.5">
          <p className="font-semibold">
            <span aria-hidden>◆ </span>
            {changeWords(list)}: waits for somebody to agree
          </p>
          <p className="text-soft">
            Since {instant(list.waits_since, zone, now)}. {list.waits_for}
          </p>
        </div>
      )}
      <LeftOut count={list.left_out_count} of={list.left_out} />
      {mayOperate && (
        <div className="mt-2 flex flex-wrap gap-x-3">
          <Button
            kind={list.waits_since ? "plain" : "quiet"}
            disabled={look.isPending || read.isPending}
            onClick={() => look.mutate()}
          >
            {look.isPending ? "Reading…" : list.waits_since ? "See what it says…" : "Read now…"}
          </Button>
          <Button kind="quiet" onClick={() => setEditing(true)}>
            Change…
          </Button>
          <Confirm
            trigger={<Button kind="quiet">Follow it no longer…</Button>}
            title={`Let “${group.name}” follow its list no longer?`}
            action={`Keep these ${counted(group.member_count, "device")}`}
            onConfirm={() => stop.mutate()}
          >
            It keeps the {counted(group.member_count, "device")} of now, which are picked by hand from then on. What
            changes in the list later changes nothing here.
          </Confirm>
        </div>
      )}
      <Problem error={look.error ?? stop.error ?? (look.data ? null : read.error)} />
      {look.data && (
        <Modal
          open
          onClose={() => {
            look.reset();
            read.reset();
          }}
          title={`What the list of “${group.name}” says now`}
        >
          <ListPreview told={look.data} />
          <Problem error={read.error} />
          <div className="mt-4 flex justify-end gap-2">
            <Button onClick={() => look.reset()}>Cancel</Button>
            <Button
              kind="main"
              disabled={read.isPending}
              onClick={() => read.mutate(look.data.most_leave ? look.data.leaves : undefined)}
            >
              {changeWords(look.data) === "Nothing changes" ? "Read it" : `Do it: ${changeWords(look.data)}`}
            </Button>
          </div>
        </Modal>
      )}
      {editing && <FollowListForm group={group} list={list} onClose={() => setEditing(false)} />}
    </section>
  );
}

/** An address without what may be secret in it. */
function shownAddress(url: string): string {
  return url.replace(/^https?:\/\//, "").replace(/[?#].*$/, "");
}
